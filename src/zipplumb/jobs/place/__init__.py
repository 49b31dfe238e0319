"""Placing details: targets, adjusters, turns, and the fitter at the jig."""
