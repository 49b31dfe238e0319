"""The page of reports."""
