"""People, for the administrator; one's own password; and the record of what was changed."""

from __future__ import annotations

import json

from flask import Blueprint, g, redirect, render_template, request, url_for
from flask_login import current_user
from sqlalchemy import select

from ...jobs import people
from ...jobs.actor import ROLES
from ...store.database import transaction
from ...store.models import Change, Job, Row, User
from .. import params
from ..answers import done, seen
from ..doors import administers, reads

blueprint = Blueprint("people", __name__)
A_PAGE = 100


@blueprint.get("/people")
@administers
def every():
    return render_template("people.html", people=people.people(), roles=ROLES)


@blueprint.post("/people")
@administers
def add():
    form = request.form
    people.add_person(form.get("login", ""), form.get("name", ""), form.get("role", ""), form.get("password", ""), g.actor)
    return redirect(url_for("people.every"))


@blueprint.post("/people/<int:user_id>")
@administers
def change(user_id: int):
    form = request.form
    people.change_person(g.actor, user_id, form.get("name", ""), form.get("role", ""), form.get("active") == "1", seen())
    return redirect(url_for("people.every"))


@blueprint.post("/people/<int:user_id>/password")
@administers
def set_password(user_id: int):
    people.set_password(g.actor, user_id, request.form.get("password", ""))
    return redirect(url_for("people.every"))


@blueprint.post("/people/<int:user_id>/end")
@administers
def end_sessions(user_id: int):
    people.end_sessions(g.actor, user_id)
    return redirect(url_for("people.every"))


@blueprint.get("/me")
@reads
def me():
    return render_template("me.html", changed=request.args.get("changed") == "1")


@blueprint.post("/me/password")
@reads
def own_password():
    people.change_own_password(g.actor, request.form.get("old", ""), request.form.get("password", ""), current_user.get_id())
    return redirect(url_for("people.me", changed="1"))


@blueprint.post("/me/keys")
@reads
def keys():
    people.set_single_keys(g.actor, request.form.get("single") == "1")
    return done()


@blueprint.get("/record")
@reads
def record():
    """Who changed what, newest first; of one job where it is asked for."""
    job_id, before = params.one_id("job"), params.one_id("before")
    query = (
        select(Change, User.name, Job.name).outerjoin(User, User.id == Change.user_id).outerjoin(Job, Job.id == Change.job_id)
    )
    if job_id is not None:
        query = query.where(Change.job_id == job_id)
    if before is not None:
        query = query.where(Change.id < before)
    with transaction() as session:
        found = session.execute(query.order_by(Change.id.desc()).limit(A_PAGE)).all()
        rows = {change.detail.get("row") for change, _, _ in found}
        named = select(Row.id, Row.recipe["name"].astext).where(Row.id.in_([r for r in rows if isinstance(r, int)]))
        names = {number: name for number, name in session.execute(named)}
    lines = [(change, who or "the instrument", job, _detail(change.detail, names)) for change, who, job in found]
    return render_template("record.html", lines=lines, job_id=job_id, more=found[-1][0].id if len(found) == A_PAGE else None)


def _detail(detail: dict, rows: dict[int, str]) -> list[tuple[str, str]]:
    """A change in words: the values that differ, before and after."""
    before, after = detail.get("before"), detail.get("after")
    if isinstance(before, dict) and isinstance(after, dict):
        differs = [k for k in {**before, **after} if before.get(k) != after.get(k)]
        told = [(k, f"{_short(before.get(k))} → {_short(after.get(k))}") for k in differs]
    else:
        told = []
    others = {k: v for k, v in detail.items() if k not in ("before", "after", "readings")}
    if isinstance(others.get("hits"), list):  # keys, which tell a person nothing
        others["hits"] = len(others["hits"])
    if others.get("row") in rows:
        others["row"] = rows[others["row"]]
    return told + [(k, _short(v)) for k, v in others.items()]


def _short(value: object) -> str:
    """A value in words: a recipe by its name, limits as from and to, the rest as it is."""
    if isinstance(value, dict):
        known = value.get("name") or value.get("key")
        limits = [value.get(side) for side in ("lower", "upper")]
        said = f"{known or ''} {value.get('kind', '')}".strip() if known else json.dumps(value, ensure_ascii=False)
        if any(limit is not None for limit in limits):
            said += " " + " to ".join("any" if limit is None else f"{limit:g}" for limit in limits)
    elif isinstance(value, list):
        said = ", ".join(_short(item) for item in value) or "nothing"
    elif value is None or isinstance(value, bool):
        said = "nothing" if value is None else "yes" if value else "no"
    else:
        said = f"{value:g}" if isinstance(value, float) else str(value)
    return said if len(said) <= 160 else said[:159] + "…"
