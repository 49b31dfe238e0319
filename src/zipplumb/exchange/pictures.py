"""Pictures of the stage that people keep for a report."""

from __future__ import annotations

import io

from PIL import Image


def is_picture(png: bytes) -> bool:
    """Whether it is a PNG that can be drawn to its end."""
    try:
        with Image.open(io.BytesIO(png), formats=("PNG",)) as image:
            image.verify()  # to its end, also where another library has told this one to take what is cut off
        with Image.open(io.BytesIO(png), formats=("PNG",)) as image:
            image.load()
    except (OSError, SyntaxError, ValueError, Image.DecompressionBombError):  # a broken chunk is a SyntaxError
        return False
    return True
