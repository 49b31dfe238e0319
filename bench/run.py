"""Speed, as ratios in one run: ./run bench [fits | recognising | network | surfaces | sheet | imports | live | pages]."""

from __future__ import annotations

import importlib
import sys

PARTS = ("fits", "recognising", "network", "surfaces", "sheet", "imports", "live", "pages")

for part in sys.argv[1:] or PARTS:
    importlib.import_module(part).run()
