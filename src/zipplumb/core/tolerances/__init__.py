"""Limits and decisions."""

from .decision import Verdict, judge

__all__ = ["Verdict", "judge"]
