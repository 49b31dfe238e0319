"""Words of an ellipse."""

from ._shared import EnclosedWords


class EllipseWords(EnclosedWords):
    noun, bore, boss, how = "ellipse", "elliptical opening", "elliptical boss", "all round, at one depth"


WORDS = EllipseWords()
