"""One characteristic over many pieces: its run chart, and what the process that made them is capable of."""
