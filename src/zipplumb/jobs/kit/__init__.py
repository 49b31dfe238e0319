"""Instruments, probes, their calibrations and checks, and where they stand."""
