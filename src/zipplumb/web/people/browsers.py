"""Who has signed in before in this browser: a signed cookie, worth nothing but that guesses elsewhere do not lock it out."""

from __future__ import annotations

import secrets
from datetime import timedelta

from flask import current_app, request
from itsdangerous import BadData, URLSafeTimedSerializer
from werkzeug.wrappers import Response

COOKIE, KEPT, PEOPLE = "known", timedelta(days=180), 8


def known_for(login: str) -> str:
    """The number of this browser, if that person has signed in here before; else nothing."""
    found = _read()
    return str(found["number"]) if _name(login) in found["logins"] else ""


def kept(response: Response, login: str) -> Response:
    """From now on that person is known here."""
    found = _read()
    logins = [_name(login), *(each for each in found["logins"] if each != _name(login))][:PEOPLE]
    response.set_cookie(
        COOKIE, _signer().dumps({"number": found["number"], "logins": logins}), max_age=KEPT, httponly=True, samesite="Strict",
        secure=current_app.config["SESSION_COOKIE_SECURE"], path="/sign-in",
    )  # fmt: skip
    return response


def _name(login: str) -> str:
    return login.strip().lower()[:60]


def _signer() -> URLSafeTimedSerializer:
    return URLSafeTimedSerializer(current_app.secret_key or "", salt="known browser")


def _read() -> dict:
    try:
        return _signer().loads(request.cookies.get(COOKIE, ""), max_age=int(KEPT.total_seconds()))
    except BadData:
        return {"number": secrets.token_hex(12), "logins": []}
