"""The pages: a blueprint per stage, with its templates beside it."""
