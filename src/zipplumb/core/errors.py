"""The small family of errors that a person may read.

Every message says what happened, what was kept and what to do; nothing else is shown.
"""


class PlumbError(Exception):
    """Something that a person can put right.

    Parameters
    ----------
    happened : str
        What happened, one sentence.
    kept : str
        What became of the data, one sentence.
    todo : str
        What to do next, one sentence.
    """

    def __init__(self, happened: str, kept: str = "", todo: str = ""):
        self.happened, self.kept, self.todo = happened, kept, todo
        super().__init__(" ".join(part for part in (happened, kept, todo) if part))


class FitError(PlumbError):
    """The points cannot carry the shape that was asked for."""


class AlignmentError(PlumbError):
    """The features cannot carry the coordinate system that was asked for."""


class DeriveError(PlumbError):
    """The dimension is not defined for these features."""


class InputError(PlumbError):
    """What was typed, sent or uploaded is refused; nothing was changed."""


class FileError(PlumbError):
    """A file could not be read; nothing of it was kept."""


class DeviceError(PlumbError):
    """An instrument sent something that is not a reading, or cannot be reached."""


class NotAllowed(PlumbError):
    """The signed-in person's role does not allow this act."""
