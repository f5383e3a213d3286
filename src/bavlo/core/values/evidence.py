"""What names and cell methods tell of a depth of water: whether it falls or leaves, or is there."""

from __future__ import annotations

import re

# Whole words, in names of files and in CF standard names, for water that falls or leaves.
FALLS = re.compile(
    r"\b(precip(?!itable)[a-z]*|rain|rains|rainfall|snowfall|snowmelt|hail|drizzle|dew|runoff"
    r"|evaporation|evapotranspiration|transpiration|sublimation|throughfall|drainage|percolation"
    r"|infiltration|recharge|snow melt)\b"
)

# Abbreviations that variables are called by; in a sentence they mean other things.
SHORT_FALLS = re.compile(r"\b(tp|pr|pre|prec|ppt|pptn|prcp|pcp|rr|rf|et|pet|aet|eto|ro)\b")

# Words for water that is there: in a CF standard name they tell a state.
STAYS = re.compile(
    r"\b(snow|snowpack|content|storage|moisture|vapou?r|altitude|height|depth|elevation|level)\b"
)

# Words that leave it open what a depth is, whatever falls is in the name too.
LEAVES_OPEN = re.compile(r"\b(snow|snowpack|content|storage|moisture|vapou?r|longest|since)\b")

# Water that is held somewhere, and whose depth is a state however it is written.
HELD = re.compile(
    r"\b(precipitable|(water )?vapou?r( content| path)?|column(ar)? water|soil moisture"
    r"|snow water equivalent|swe|canopy water|(soil|total|terrestrial) water storage)\b"
)

# A number of days adds up; the longest run of days and days since something do not.
NUMBER_OF_DAYS = re.compile(r"\bnumber of\b.*\bdays\b|\bdays? count\b|\bcount of days\b")
NO_NUMBER_OF_DAYS = re.compile(r"\b(longest|consecutive|since)\b")

ADDED_UP = re.compile(r"\btime\s*:\s*sum\b")

# What is left of days or hours that were averaged or picked; a mean over years is a normal.
NOT_ADDED_UP = re.compile(
    r"\btime\s*:\s*(?!sum\b)(mean|point|maximum|minimum|median|mid_range|range)\b"
    r"(?!\s+over\s+years)"
)


def words_of(name: str) -> str:
    """The words of a name in small letters, with spaces: `RainTotal_mm` is rain total mm."""
    spaced = re.sub(r"([a-z])([A-Z])", r"\1 \2", name)
    return " ".join(re.findall(r"[a-z]+", spaced.lower()))


def name_of_water(standard_name: str, name: str, long_name: str) -> str:
    """Which of a variable's names says that it is water that falls or leaves; empty for none."""
    for text in (standard_name, name, long_name):
        if FALLS.search(words_of(text)):
            return text
    return name if SHORT_FALLS.search(words_of(name)) else ""


def stays(standard_name: str) -> bool:
    """Whether a CF standard name is one of water that is there, as snow or soil moisture are."""
    words = words_of(standard_name)
    return bool(STAYS.search(words)) and not FALLS.search(words)


def held_water(names: tuple[str, ...]) -> str:
    """The name that says that a depth is of water in the air, the soil or snow; empty for none."""
    if any(FALLS.search(words_of(name)) for name in names):
        return ""
    return next((name for name in names if HELD.search(words_of(name))), "")


def number_of_days(names: tuple[str, ...]) -> str:
    """The name that says that days are a number of days; empty for none."""
    words = [words_of(text) for text in names]
    if any(NO_NUMBER_OF_DAYS.search(text) for text in words):
        return ""
    pairs = zip(names, words, strict=True)
    return next((name for name, text in pairs if NUMBER_OF_DAYS.search(text)), "")


def left_open(names: tuple[str, ...]) -> str:
    """The name that leaves open what a depth is; empty for none."""
    for text in names:
        words = words_of(text)
        if LEAVES_OPEN.search(words.replace("snow melt", "")):
            return text
    return ""
