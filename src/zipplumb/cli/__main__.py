"""``python -m zipplumb.cli``."""

import sys

from . import main

sys.exit(main())
