"""Files of scanned points: E57, PLY and lists of text, read block by block and written."""
