"""The processes in which files are read and written, and their limits."""
