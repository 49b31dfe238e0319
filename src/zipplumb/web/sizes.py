"""How much a request may bring: what its route takes, and of whoever may not go through it no more than a form."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from flask import current_app, request
from flask_login import current_user
from werkzeug.exceptions import RequestEntityTooLarge

View = TypeVar("View", bound=Callable)
MB = 1024 * 1024
FORM_BYTES, LIST_MB = MB, 12
UNKEPT = "zipplumb.unkept"  # of a request: why the server could not keep what was sent
AROUND_BYTES = 65536  # the other fields of a form with a file


def takes(megabytes: int) -> Callable[[View], View]:
    """Let a route take more than a form."""

    def state(view: View) -> View:
        view.takes_bytes = megabytes * MB + AROUND_BYTES  # type: ignore[attr-defined]
        return view

    return state


def most_bytes() -> int:
    """Largest body of the present request, bytes."""
    view = current_app.view_functions.get(request.endpoint or "")
    more = getattr(view, "takes_bytes", FORM_BYTES)
    if more == FORM_BYTES or not current_user.is_authenticated:
        return FORM_BYTES
    return more if current_user.actor.role in getattr(view, "roles", ()) else FORM_BYTES


def refuse_larger() -> None:
    """Before anything of a request is read. Raises RequestEntityTooLarge, OSError where the server could not keep it."""
    if (error := request.environ.get(UNKEPT)) is not None:
        raise error
    announced = request.content_length or 0
    request.max_content_length = FORM_BYTES if announced <= FORM_BYTES else most_bytes()
    if announced > request.max_content_length:
        raise RequestEntityTooLarge()


def too_large() -> str:
    """The sentence for it."""
    most = most_bytes()
    if most == FORM_BYTES:
        return "What was sent is larger than any form. Nothing of it was kept. Sign in first, or send less at a time."
    return f"The file is larger than {most // MB} MB. Nothing of it was kept. Export only the bodies that are needed."
