"""Machine code of kernels: kept between runs, loaded by llvmlite, called by ctypes."""

from __future__ import annotations

import ctypes
import hashlib
import struct
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from types import FunctionType
from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo import kept as store

if TYPE_CHECKING:
    import llvmlite.binding as llvm

FORMAT = "2"  # of the entries; another number makes all older ones useless
WHOLE, REAL, FLAG, NOTHING = "i8", "f8", "b1", ""
C_TYPES = {WHOLE: ctypes.c_int64, REAL: ctypes.c_double, FLAG: ctypes.c_int64, NOTHING: None}
FORMS = {REAL: "d", FLAG: "?7x"}  # of eight bytes, where it is not a whole number
PARTS = ("code", "words")
Function = Callable[..., Any]
address_of = ctypes.PYFUNCTYPE(ctypes.c_void_p, ctypes.py_object, ctypes.c_void_p)(
    ("PyCapsule_GetPointer", ctypes.pythonapi)
)

_engines: list[Any] = []  # which own what was loaded


@dataclass(frozen=True, eq=False)
class MachineCode:
    """What a kernel was compiled to for arguments of some types.

    Parameters
    ----------
    code
        An object file.
    symbol
        The function in it. It takes a table of eight bytes for each argument: the
        address of an array's PyArrayInterface (NumPy's array interface), or a number.
    types
        Of its arguments, as `type_of` has them.
    returns
        WHOLE, REAL, FLAG or NOTHING.
    helpers
        Functions of numba's own that it calls when an error is raised, which no kernel does.
    """

    code: bytes
    symbol: str
    types: tuple[str, ...]
    returns: str
    helpers: tuple[str, ...]


def type_of(argument: Any) -> str:
    """The name of an argument's type, that of an array with its dimensions: `f4:2`.

    Raises
    ------
    TypeError
        Where it is neither an array nor a number.

    Examples
    --------
    >>> type_of(np.zeros((2, 3), np.float32)), type_of(1), type_of(0.5), type_of(True)
    ('f4:2', 'i8', 'f8', 'b1')
    """
    if isinstance(argument, np.ndarray):
        return f"{argument.dtype.str[1:]}:{argument.ndim}"
    for kinds, name in (
        ((bool, np.bool_), FLAG),
        ((int, np.integer), WHOLE),
        ((float, np.floating), REAL),
    ):
        if isinstance(argument, kinds):
            return name
    raise TypeError(f"{type(argument).__name__} is neither an array nor a number")


def entry_of(kernel: Callable[..., Any], types: tuple[str, ...]) -> Path:
    """Where the machine code of a kernel is kept: a name for all that it depends on.

    Raises
    ------
    OSError
        Where the text of the kernel cannot be read.
    """
    import llvmlite

    assert isinstance(kernel, FunctionType)
    digest = hashlib.sha256(FORMAT.encode())
    digest.update(Path(kernel.__code__.co_filename).read_bytes())
    words = (kernel.__qualname__, types, llvmlite.__version__, np.__version__, *_processor())
    digest.update(repr(words).encode())
    return store.folder() / f"{digest.hexdigest()}{store.LOOP}"


def kept(entry: Path) -> MachineCode | None:
    """The machine code that is kept; None where there is none, or it is damaged or not ours."""
    parts = store.load(entry, PARTS)
    if parts is None:
        return None
    symbol, returns, types, helpers = parts["words"].tolist()
    return MachineCode(
        parts["code"].tobytes(), symbol, tuple(types.split()), returns, tuple(helpers.split())
    )


def keep(entry: Path, code: MachineCode) -> None:
    """Keep machine code for later runs."""
    words = (code.symbol, code.returns, " ".join(code.types), " ".join(code.helpers))
    store.keep(entry, {"code": np.frombuffer(code.code, np.uint8), "words": np.array(words)})


def load(code: MachineCode) -> Function:
    """What calls machine code, without the interpreter's lock."""
    import llvmlite.binding as llvm

    for name in code.helpers:
        if not llvm.address_of_symbol(name):
            ends = ctypes.cast(ctypes.pythonapi.Py_FatalError, ctypes.c_void_p)
            llvm.add_symbol(name, ends.value)
    # An engine for each, as the names inside two of them may be the same.
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), target_machine())
    engine.add_object_file(llvm.ObjectFileRef.from_data(code.code))
    engine.finalize_object()
    _engines.append(engine)
    prototype = ctypes.CFUNCTYPE(C_TYPES[code.returns], ctypes.c_char_p)
    call = prototype(engine.get_function_address(code.symbol))
    pack = struct.Struct("".join(FORMS.get(each, "q") for each in code.types)).pack

    def function(*numbers: float) -> Any:
        return call(pack(*numbers))

    def of_flag(*numbers: float) -> bool:
        return bool(call(pack(*numbers)))

    return of_flag if code.returns == FLAG else function


def target_machine() -> llvm.TargetMachine:
    """The processor of this machine, for llvmlite."""
    import llvmlite.binding as llvm

    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    cpu, features = _processor()
    return llvm.Target.from_default_triple().create_target_machine(
        cpu=cpu, features=features, opt=3, jit=True
    )


@cache
def _processor() -> tuple[str, str]:
    import llvmlite.binding as llvm

    try:
        features = llvm.get_host_cpu_features().flatten()
    except RuntimeError:  # of systems that do not tell them
        features = ""
    return llvm.get_host_cpu_name(), features
