"""Clouds of scanned points: lines of light in the world, cells of a cloud, and whose points they are."""
