"""The page on which a row is measured."""
