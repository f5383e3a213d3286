"""Frozen dataclasses that are quickly made behave as those of the standard library."""

import copy
import dataclasses
import pickle
from dataclasses import FrozenInstanceError, field
from functools import cached_property

import numpy as np
import pytest

from bavlo.records import dataclass, replace


@dataclass(frozen=True)
class Spell:
    """A run of steps."""

    first: int
    last: int = 9
    notes: tuple[str, ...] = ()
    seen: int = field(default=0, compare=False, repr=False)

    def __post_init__(self):
        if self.last < self.first:
            raise ValueError("ends before it begins")

    @cached_property
    def length(self):
        return self.last - self.first + 1


@dataclass(frozen=True)
class Named(Spell):
    name: str = "dry"


@dataclass(frozen=True, eq=False)
class Values:
    block: np.ndarray


@dataclass(frozen=True)
class Nothing:
    pass


@dataclass
class Count:
    number: int = 0


def standard(cls):
    """The same class by the decorator of the standard library."""
    body = {"__annotations__": cls.__annotations__, "__qualname__": cls.__qualname__}
    fields = {f.name: f for f in dataclasses.fields(cls)}
    for name in cls.__annotations__:
        if fields[name].default is not dataclasses.MISSING:
            body[name] = field(
                default=fields[name].default, compare=fields[name].compare, repr=fields[name].repr
            )
    return dataclasses.dataclass(frozen=True)(type(cls.__name__, (), body))


def test_they_are_shown_compared_and_hashed_by_their_fields():
    plain = standard(Spell)
    assert repr(Spell(3)) == repr(plain(3)) == "Spell(first=3, last=9, notes=())"
    assert Spell(3, seen=1) == Spell(3, seen=2)
    assert Spell(3) != Spell(4)
    assert Spell(3) != plain(3)
    assert Spell(3) != Named(3)
    assert hash(Spell(3, 4, ("a",), seen=1)) == hash(plain(3, 4, ("a",), 2))
    assert Nothing() == Nothing()
    assert len({Nothing(), Nothing(), Spell(1), Spell(1)}) == 2


def test_without_equality_each_is_itself_alone():
    one, other = Values(np.zeros(3)), Values(np.zeros(3))
    assert one == one
    assert one != other
    assert len({one, other}) == 2


def test_they_are_made_as_their_fields_say():
    assert Named(1, name="wet") == Named(1, 9, (), 0, "wet")
    with pytest.raises(TypeError, match="first"):
        Spell()
    with pytest.raises(TypeError, match="other"):
        Spell(1, other=2)
    with pytest.raises(ValueError, match="ends before"):
        Spell(5, 4)
    assert Spell.__match_args__ == ("first", "last", "notes", "seen")


def test_no_field_of_a_frozen_one_changes():
    spell = Spell(1)
    with pytest.raises(FrozenInstanceError, match="first"):
        spell.first = 2
    with pytest.raises(FrozenInstanceError, match="other"):
        spell.other = 2
    with pytest.raises(FrozenInstanceError, match="last"):
        del spell.last
    assert spell == Spell(1)
    count = Count()
    count.number = 2
    assert count == Count(2)


def test_they_are_copied_replaced_pickled_and_turned_into_dictionaries():
    spell = Named(1, notes=("open",), seen=4)
    assert spell.length == 9
    for how in (replace, dataclasses.replace):
        other = how(spell, last=3)
        assert other == Named(1, 3, ("open",))
        assert (type(other), other.seen, other.length, spell.length) == (Named, 4, 3, 9)
        assert replace(Count(1), number=2) == Count(2)
        with pytest.raises(ValueError, match="ends before"):
            how(spell, last=0)
        with pytest.raises(TypeError, match="other"):
            how(spell, other=0)
    for each in (copy.copy(spell), copy.deepcopy(spell), pickle.loads(pickle.dumps(spell))):
        assert each == spell
        assert each.seen == 4
        with pytest.raises(FrozenInstanceError):
            each.first = 2
    assert dataclasses.asdict(spell) == {
        "first": 1, "last": 9, "notes": ("open",), "seen": 4, "name": "dry",
    }  # fmt: skip
