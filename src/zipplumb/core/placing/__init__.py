"""A detail on its adjusters: how it lies, which adjuster to turn, and what each really does."""

from .adjusters import Adjuster, Effect, Turn, TurnPlan, learned, plan_turns
from .detail import Lies, lies
from .each import learned_each, plan_each
from .progress import Progress, progress
from .wanted import wanted_first

__all__ = [
    "Adjuster",
    "Effect",
    "Lies",
    "Progress",
    "Turn",
    "TurnPlan",
    "learned",
    "learned_each",
    "lies",
    "plan_each",
    "plan_turns",
    "progress",
    "wanted_first",
]
