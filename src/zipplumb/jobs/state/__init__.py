"""A job loaded and worked out: readings, results, and rows as text."""
