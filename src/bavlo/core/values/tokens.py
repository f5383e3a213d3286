"""What small parsers share: words of a text with their places, and errors that point at one."""

from __future__ import annotations

import re

from bavlo.errors import RequestError

SHOWN = 14  # characters of the place that an error shows


class Tokens:
    """The words of a text, taken one after the other.

    Parameters
    ----------
    text
        As the user wrote it.
    pattern
        One named group for each kind of word, white space before it allowed.
    option, remedy
        What errors name, and what they advise.
    """

    def __init__(self, text: str, pattern: re.Pattern[str], option: str, remedy: str) -> None:
        self.text, self.option, self.remedy = text, option, remedy
        self.words: list[tuple[str, str, int]] = []
        self.next = 0
        position = 0
        while position < len(text.rstrip()):
            match = pattern.match(text, position)
            if match is None:
                position = len(text) - len(text[position:].lstrip())
                raise self.error("is not understood", position)
            kind = str(match.lastgroup)
            self.words.append((kind, match.group(kind), match.start(kind)))
            position = match.end()

    def peek(self) -> tuple[str, str, int]:
        """Kind, text and place of the next word; no kind at the end."""
        return self.words[self.next] if self.next < len(self.words) else ("", "", len(self.text))

    def take(self, kind: str, *texts: str) -> str | None:
        """The next word if it is of a kind, and one of some texts where these are given."""
        found, text, _ = self.peek()
        if found != kind or (texts and text.lower() not in texts):
            return None
        self.next += 1
        return text

    def error(self, what: str, position: int | None = None) -> RequestError:
        """An error about the next word, or about a place."""
        if position is None:
            position = self.peek()[2]
        found = repr(self.text[position : position + SHOWN].strip())
        if position >= len(self.text.rstrip()):
            found = "its end"
        return RequestError(
            self.option, f"'{self.text}': {found} at character {position + 1} {what}", self.remedy
        )


def plain_number(value: float) -> str:
    """A number in as few digits as read back to it.

    Examples
    --------
    >>> plain_number(20.0), plain_number(0.1), plain_number(20.123456789)
    ('20', '0.1', '20.123456789')
    """
    short = f"{value:g}"
    return short if float(short) == value else repr(float(value))
