"""The symbol that stands beside a word of how something is, so that nothing rests on a colour alone. Pages, reports and
messages take it from here."""

from __future__ import annotations

from enum import StrEnum


class Symbol(StrEnum):
    GOOD = "●"
    CLOSE = "◐"
    BAD = "▲"
    OPEN = "◇"  # neither is proven
    TO_DO = "○"
    ASKS = "?"


SYMBOL_OF = {
    "in": Symbol.GOOD, "close": Symbol.CLOSE, "out": Symbol.BAD, "not proven": Symbol.OPEN,
    "to do": Symbol.TO_DO, "asks": Symbol.ASKS, "done": Symbol.GOOD, "failed": Symbol.BAD,
}  # fmt: skip
