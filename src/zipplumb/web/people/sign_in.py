"""Signing in and out."""

from __future__ import annotations

from urllib.parse import urlsplit

from flask import Blueprint, redirect, render_template, request, session, url_for
from flask_login import UserMixin, current_user, login_user, logout_user

from ...core.errors import PlumbError
from ...jobs import people
from ...jobs.actor import Actor
from ..doors import reads, unguarded
from . import browsers

blueprint = Blueprint("auth", __name__)


class Person(UserMixin):
    """A signed-in person, as Flask-Login wants one: known by the token of the session."""

    def __init__(self, actor: Actor, token: str):
        self.actor, self.token = actor, token

    def get_id(self) -> str:
        return self.token

    class nobody:
        is_authenticated = is_active = False
        is_anonymous = True
        actor = None

        @staticmethod
        def get_id() -> None:
            return None


def load_person(token: str) -> Person | None:
    actor = people.signed_in(token)
    return Person(actor, token) if actor else None


@blueprint.route("/sign-in", methods=["GET", "POST"])
@unguarded
def sign_in():
    message, status = "", 200
    if request.method == "POST":
        form = request.form
        try:
            login = form.get("login", "")
            actor, token = people.sign_in(login, form.get("password", ""), request.remote_addr or "", browsers.known_for(login))
            session.clear()
            login_user(Person(actor, token))
            target = request.args.get("next", "")
            return browsers.kept(redirect(target if is_ours(target) else url_for("home.jobs")), login)
        except PlumbError as error:
            message, status = str(error), 422
    return render_template("sign_in.html", message=message), status


def is_ours(target: str) -> bool:
    """A path of this application. Browsers drop control characters and take a backslash for a slash."""
    if not target.startswith("/") or "\\" in target or not target.isprintable() or " " in target:
        return False
    parts = urlsplit(target)
    return not parts.scheme and not parts.netloc and not target.startswith("//")


@blueprint.post("/sign-out")
@reads
def sign_out():
    people.sign_out(current_user.actor, current_user.get_id())
    logout_user()
    session.clear()
    return redirect(url_for("auth.sign_in"))
