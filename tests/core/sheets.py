"""Random sheets with readings of every kind, and random edits of them, for the property test and the benchmark."""
