"""Whether the server answers, and how it is."""
