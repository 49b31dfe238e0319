"""Signing in, people, and the record of changes."""
