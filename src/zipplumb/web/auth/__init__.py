"""Signing in and out."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, request, url_for
from flask_login import UserMixin, login_user, logout_user

from ...core.errors import PlumbError
from ...jobs import people
from ...jobs.actor import Actor

blueprint = Blueprint("auth", __name__)


class Person(UserMixin):
    """A signed-in person, as Flask-Login wants one."""

    def __init__(self, actor: Actor):
        self.actor = actor

    def get_id(self) -> str:
        return str(self.actor.id)

    class nobody:
        is_authenticated = is_active = False
        is_anonymous = True
        actor = None

        @staticmethod
        def get_id() -> None:
            return None


def load_person(user_id: str) -> Person | None:
    actor = people.person_by_id(int(user_id))
    return Person(actor) if actor else None


@blueprint.route("/sign-in", methods=["GET", "POST"])
def sign_in():
    message, status = "", 200
    if request.method == "POST":
        try:
            actor = people.sign_in(request.form.get("login", ""), request.form.get("password", ""), request.remote_addr or "")
            login_user(Person(actor))
            target = request.args.get("next", "")
            safe = target.startswith("/") and not target.startswith(("//", "/\\"))
            return redirect(target if safe else url_for("home.jobs"))
        except PlumbError as error:
            message, status = str(error), 422
    return render_template("sign_in.html", message=message), status


@blueprint.post("/sign-out")
def sign_out():
    logout_user()
    return redirect(url_for("auth.sign_in"))
