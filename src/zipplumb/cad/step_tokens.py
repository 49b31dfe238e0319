"""What of the encoding of a STEP file (ISO 10303-21, clause 6) the CAD library does not stand.

The CAD library runs for ever on a point whose coordinate is not a number. What stands in a text or in a comment
is no number, however it looks; and how a number is spelled says nothing of its value.
"""

from __future__ import annotations

import math
import re

FARTHEST = 1e15  # of a coordinate, in the file's unit of length

_BLANK = rb"(?:\s|/\*.*?\*/)*+"
_NONE = rb"(?<![\w#.'])[-+]?(?:1\.\#)?(?:nan|inf(?:inity)?|[qs]nan|ind)\b"
_LARGE = rb"(?<![\w.])[-+]?(?:\d{15,}+\.?\d*|\d+\.?\d*(?=[eE]))(?:[eE][-+]?\d{2,})?"
# Most files hold nothing like these, and are looked through once, by these alone.
_PERHAPS_NONE = re.compile(rb"(?:NAN|INF(?:INITY)?|#IND)[\s,()/]")
_PERHAPS_LARGE = re.compile(rb"[(,\s+-]\d{15}|[eE]\+?0*(?:1\d|[2-9]\d|[1-9]\d\d)")
_TOKEN = re.compile(
    rb"'[^']*'"
    rb"|/\*.*?\*/"
    rb'|"[^"]*"'
    rb"|(?P<none>" + _NONE + rb"(?=" + _BLANK + rb"[,)]))"
    rb"|(?P<point>\bCARTESIAN_POINT\b)"
    rb"|(?P<other>\#\d+\s*=)"
    rb"|(?P<large>" + _LARGE + rb")",
    re.S | re.I,
)

_BROKEN_NAME = re.compile(rb"#\d+ *[\r\n]\s*=")
_TEXT_OR_GAP = re.compile(rb"'[^']*'|(?P<gap>/\*.*?\*/|\t)", re.S)
_TEXT_OR_NAME = re.compile(rb"'[^']*'|(?P<name>#\d+)\s*=")


def no_number(data: bytes) -> str | None:
    """The first word that stands for no number, or coordinate of a point that is beyond all parts; None where there is none."""
    if not _PERHAPS_NONE.search(data.upper()) and not _PERHAPS_LARGE.search(data):
        return None
    of_point = False
    for token in _TOKEN.finditer(data):
        kind = token.lastgroup
        if kind == "none" or (kind == "large" and of_point and _beyond(token[0])):
            return token[0].decode(errors="replace")
        if kind in ("point", "other"):
            of_point = kind == "point"
    return None


def plainly(data: bytes) -> bytes:
    """The same without what the CAD library does not stand: comments and tabs within an entity, a break before "="."""
    if b"/*" not in data and b"\t" not in data and not _BROKEN_NAME.search(data):
        return data
    data = _TEXT_OR_GAP.sub(lambda found: b" " if found["gap"] else found[0], data)
    return _TEXT_OR_NAME.sub(lambda found: found["name"] + b"=" if found["name"] else found[0], data)


def _beyond(number: bytes) -> bool:
    value = float(number)
    return not math.isfinite(value) or abs(value) > FARTHEST
