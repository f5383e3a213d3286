"""What a Shapefile says of the encoding of its text, held against the text."""

from __future__ import annotations

import codecs
import re
import zipfile
from pathlib import Path

from bavlo.files import DAMAGE

UTF8, LATIN1 = "UTF-8", "ISO-8859-1"
# As programs write them: a number by itself, or behind a word.
NUMBER = re.compile(r"(?i)(?:ansi|oem|cp|windows|ibm)?[ _-]*(\d{3,5})")
LATIN = re.compile(r"(?i)(?:iso[ _-]*)?8859[ _-]?(\d{1,2})")
# DBF files hold ASCII at least, which these cannot.
IMPOSSIBLE = re.compile(r"(?i)utf[ _-]?(?:16|32|7)|ucs")


def doubt_of(path: Path) -> tuple[str | None, str]:
    """The encoding to read the text of a Shapefile in, and what is to be said of it.

    Returns
    -------
    encoding
        None for the one that the file names, or that the library takes by itself.
    words
        Empty where there is nothing to be said.
    """
    said, text = _parts(path)
    is_utf8 = _is_utf8(text)
    foreign = any(byte > 127 for byte in text)
    if said is None:
        if foreign and is_utf8:
            return UTF8, f"has no .cpg, and its text is {UTF8} by all signs; read so"
        return None, ""
    name = said.decode("ascii", "backslashreplace").strip()
    if IMPOSSIBLE.match(name):
        return UTF8, f"its .cpg says '{name}', which no DBF file can be in; read as {UTF8}"
    known = _python_name(name)
    if known is None:
        return UTF8, f"its .cpg says '{name}', which is no encoding; read as {UTF8}"
    if known == "utf-8":  # the library does not know all names of it
        if is_utf8:
            return UTF8, ""
        return LATIN1, f"its .cpg says '{name}', which its text is not; read as Latin-1"
    if foreign and is_utf8:
        return UTF8, f"its .cpg says '{name}', but its text is {UTF8} by all signs; read so"
    return None, ""


def _parts(path: Path) -> tuple[bytes | None, bytes]:
    """What the `.cpg` file says, None where there is none, and the rows of the DBF file."""
    try:
        if zipfile.is_zipfile(path):
            with zipfile.ZipFile(path) as packed:
                names = {Path(n).suffix.lower(): n for n in packed.namelist()}
                if ".dbf" not in names:
                    return None, b""
                said = packed.read(names[".cpg"]) if ".cpg" in names else None
                return said, _rows(packed.read(names[".dbf"]))
        beside = {p.suffix.lower(): p for p in path.parent.glob(f"{path.stem}.*")}
        if path.suffix.lower() != ".shp" or ".dbf" not in beside:
            return None, b""
        said = beside[".cpg"].read_bytes() if ".cpg" in beside else None
        return said, _rows(beside[".dbf"].read_bytes())
    except DAMAGE:
        return None, b""  # what is wrong is told where the file itself is read


def _rows(dbf: bytes) -> bytes:
    """What stands behind the header, whose length its ninth and tenth byte give."""
    return dbf[int.from_bytes(dbf[8:10], "little") :]


def _python_name(name: str) -> str | None:
    """The codec that a name in a `.cpg` means; None where it means none."""
    latin, number = LATIN.fullmatch(name), NUMBER.fullmatch(name)
    if number and number.group(1) == "65001":
        return "utf-8"
    tried = f"iso8859-{latin.group(1)}" if latin else f"cp{number.group(1)}" if number else name
    try:
        return codecs.lookup(tried).name
    except LookupError:
        return None


def _is_utf8(text: bytes) -> bool:
    try:
        text.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True
