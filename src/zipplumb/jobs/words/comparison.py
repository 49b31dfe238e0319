"""Words of a comparison of two maps."""

from .deviations import DeviationsWords


class ComparisonWords(DeviationsWords):
    noun = "comparison of maps"
    fields = {}

    def stem(self, recipe):
        return "Comparison"


WORDS = ComparisonWords()
