"""What of the encoding of a STEP file (ISO 10303-21, clause 6) the CAD library does not stand.

The CAD library runs for ever on a point whose coordinate is not a number. What stands in a text or in a comment
is no number, however it looks; and how a number is spelled says nothing of its value.
"""

from __future__ import annotations

import math
import re

import numpy as np

FARTHEST = 1e15  # of a coordinate, in the file's unit of length

_BLANK = rb"(?:\s|/\*.*?\*/)*+"
_NONE = rb"(?<![\w#.'])[-+]?(?:1\.\#)?(?:nan|inf(?:inity)?|[qs]nan|ind)\b"
_LARGE = rb"(?<![\w.])[-+]?(?:\d{15,}+\.?\d*|\d+\.?\d*(?=[eE]))(?:[eE][-+]?\d{2,})?"
_WORDS = (b"NAN", b"INF", b"#IND")
LONG = 15  # digits of a number from which it is looked at

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
    upper = data.upper()
    if not any(word in upper for word in _WORDS) and not _may_be_large(np.frombuffer(upper, np.uint8)):
        return None
    of_point = False
    for token in _TOKEN.finditer(data):
        kind = token.lastgroup
        if kind == "none" or (kind == "large" and of_point and _beyond(token[0])):
            return token[0].decode(errors="replace")
        if kind in ("point", "other"):
            of_point = kind == "point"
    return None


def _may_be_large(letters: np.ndarray) -> bool:
    """Whether a number with a large exponent, or with many digits before its point, is anywhere: most files have none."""
    letters = np.append(letters, np.zeros(3, np.uint8))  # what is looked at behind a letter is always there
    digit = letters - np.uint8(ord("0")) < 10
    at = np.flatnonzero(letters[1:-3] == ord("E")) + 1
    at = at[digit[at - 1] | (letters[at - 1] == ord("."))]
    at = at + 1 + (letters[at + 1] == ord("+"))
    while len(at):  # leading zeros say nothing; they end at the latest where the file does
        zero = letters[at] == ord("0")
        if np.any(digit[at[~zero]] & digit[at[~zero] + 1]):
            return True
        at = at[zero] + 1
    if not _has_run(digit):
        return False
    ends = np.flatnonzero(~digit)
    runs = np.diff(ends, prepend=-1, append=len(letters)) > LONG
    before = letters[np.maximum(np.concatenate([[-1], ends]), 0)]
    return bool(np.any(runs & (before != ord("."))))


def _has_run(digit: np.ndarray) -> bool:
    """Whether more than LONG digits stand together: runs of twice the length, again and again."""
    run, length = digit, 1
    while length < LONG + 1:
        step = min(length, LONG + 1 - length)
        run = run[:-step] & run[step:]
        length += step
    return bool(run.any())


def plainly(data: bytes) -> bytes:
    """A STEP file's bytes without what OCCT fails on: comments and tabs within an entity, a line break before "="."""
    if b"/*" not in data and b"\t" not in data and not _BROKEN_NAME.search(data):
        return data
    data = _TEXT_OR_GAP.sub(lambda found: b" " if found["gap"] else found[0], data)
    return _TEXT_OR_NAME.sub(lambda found: found["name"] + b"=" if found["name"] else found[0], data)


def _beyond(number: bytes) -> bool:
    value = float(number)
    return not math.isfinite(value) or abs(value) > FARTHEST
