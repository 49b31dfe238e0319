"""Coordinate systems of a job, and the roads to them."""
