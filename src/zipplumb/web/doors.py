"""Who may go through a route: every one says it, and one that says nothing refuses everybody."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from ..core.errors import NotAllowed
from ..jobs.actor import Actor

View = TypeVar("View", bound=Callable)
EVERYBODY, SIGNED_IN = "everybody", ("technician", "reviewer", "administrator")


def _door(*roles: str) -> Callable[[View], View]:
    def state(view: View) -> View:
        view.roles = roles  # type: ignore[attr-defined]
        return view

    return state


unguarded = _door(EVERYBODY)
reads = _door(*SIGNED_IN)
changes = _door("technician", "administrator")
administers = _door("administrator")


def is_unguarded(view: Callable | None) -> bool:
    return EVERYBODY in getattr(view, "roles", ())


def must_pass(view: Callable | None, actor: Actor) -> None:
    """Raises NotAllowed."""
    roles = getattr(view, "roles", ())
    if actor.role in roles:
        return
    if roles == ("administrator",):
        raise NotAllowed("Only an administrator may do that.", "Nothing was changed.", "Ask one.")
    actor.must_change()
    raise NotAllowed("That is open to nobody.", "Nothing was changed.", "Go back, and tell who looks after this server.")
