"""Zip Plumb: portable metrology of large parts, from the calibrated probe to the report."""

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # our matrices are small: threads would only wait for one another, busily
