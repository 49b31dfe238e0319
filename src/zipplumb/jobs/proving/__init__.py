"""From not proven to proven: what would settle a row, and plans that are enough from the beginning."""
