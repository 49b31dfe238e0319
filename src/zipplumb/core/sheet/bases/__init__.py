"""Bases of the kinds of rows: measured, flat, derived, systems, tip paths."""
