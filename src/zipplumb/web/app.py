"""The Flask application."""

from __future__ import annotations

import errno
import hashlib
import os
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from flask import Flask, current_app, g, jsonify, render_template, request, url_for
from flask_login import LoginManager, current_user
from flask_wtf.csrf import CSRFError, CSRFProtect
from jinja2 import FileSystemLoader
from sqlalchemy.exc import DBAPIError, TimeoutError
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge

from ..core.calibration import both_units
from ..core.errors import InputError, NotAllowed, PlumbError
from ..core.units import NO_BREAK, UNITS, Units, degrees_text, length_text, sentence_in
from ..exchange.columns import SHOWN
from ..exchange.symbols import Symbol
from ..jobs.editions import edition_of
from ..jobs.plan import catalogue
from ..store.database import AWAY, transaction
from ..store.models import Job
from . import params, sizes
from .align.pages import ROAD_BLUEPRINTS
from .align.pages import blueprint as align
from .doors import is_unguarded, must_pass
from .drawing import drawing
from .guide.pages import blueprint as guide
from .health.pages import blueprint as health
from .home.pages import blueprint as home
from .job.pages import blueprint as job
from .kit import words
from .kit.instruments import blueprint as instruments
from .kit.pages import blueprint as kit
from .kit.probes import blueprint as probes
from .kit.trials import blueprint as trials
from .live.hub import Hub
from .measure.in_scans import blueprint as in_scans
from .measure.maps import blueprint as maps
from .measure.pages import blueprint as measure
from .measure.point_files import blueprint as point_files
from .measure.scan_sections import blueprint as scan_sections
from .measure.scans import blueprint as scans
from .people.pages import blueprint as people
from .people.sign_in import Person, load_person
from .people.sign_in import blueprint as auth
from .pieces.pages import blueprint as pieces
from .place.fitter import blueprint as fitter
from .place.pages import blueprint as place
from .plan.derive import blueprint as derive
from .plan.many import blueprint as many
from .plan.part import blueprint as part
from .plan.rows import blueprint as planning
from .plan.section import blueprint as section
from .plan.standing import blueprint as standing
from .proving.pages import blueprint as proving
from .rehearsal.pages import blueprint as rehearsal
from .report.office import blueprint as office
from .report.pages import blueprint as report
from .report.pictured import blueprint as pictured
from .rows import row_html

ROOM = Path(__file__).parent
DISK_FULL = "53100"  # of SQLSTATE
FULL = (
    "The server's disk is full. Nothing of this was kept; every confirmed hit is. "
    "Tell who looks after the server to make room, and try again."
)
TOGETHER = ("23", "40")  # classes of SQLSTATE: what may be there once only, and what two did that wait for each other
BLUEPRINTS = (
    auth,
    home,
    job,
    planning,
    many,
    part,
    section,
    standing,
    kit,
    align,
    measure,
    scans,
    in_scans,
    maps,
    point_files,
    scan_sections,
    derive,
    fitter,
    pieces,
    report,
    pictured,
    office,
    instruments,
    probes,
    trials,
    people,
    place,
    rehearsal,
    proving,
    health,
    guide,
)
POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; connect-src 'self'; object-src 'none'; "
    "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)


def create_app() -> Flask:
    """The application; ZIPPLUMB_SECRET signs its cookies, ZIPPLUMB_ADDRESS is how it is reached from outside."""
    app = Flask(__name__, static_folder=str(ROOM / "static"))
    app.config.update(
        SECRET_KEY=os.environ["ZIPPLUMB_SECRET"],
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Strict",
        ADDRESS=os.environ.get("ZIPPLUMB_ADDRESS", ""),
        SESSION_COOKIE_SECURE=os.environ.get("ZIPPLUMB_ADDRESS", "").startswith("https://"),
        MAX_FORM_MEMORY_SIZE=12_000_000,
        WTF_CSRF_TIME_LIMIT=None,
        SEND_FILE_MAX_AGE_DEFAULT=3600,
    )
    rooms = dict.fromkeys(Path(blueprint.root_path) / "templates" for blueprint in BLUEPRINTS)
    app.jinja_loader = FileSystemLoader([ROOM / "templates", *rooms])
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.globals.update(length_text=length_text, degrees_text=degrees_text, row_html=row_html, both_units=both_units)
    app.jinja_env.globals.update(edition_of=edition_of)
    app.jinja_env.globals.update(shown=words.shown, when=words.when, from_s=words.from_s, kit_units=words.units)
    app.jinja_env.globals.update(built=_built, drawing=drawing, symbol=Symbol, columns=SHOWN, length_units=UNITS)
    app.before_request(sizes.refuse_larger)
    CSRFProtect(app)
    login = LoginManager(app)
    login.login_view = "auth.sign_in"
    login.login_message = ""
    login.user_loader(load_person)
    login.anonymous_user = Person.nobody
    params.guard(app)
    for blueprint in (*BLUEPRINTS, *ROAD_BLUEPRINTS):
        app.register_blueprint(blueprint)
    app.before_request(_signed_in_only)
    app.after_request(_headers)
    app.after_request(_in_the_persons_units)
    _errors(app)
    app.extensions["hub"] = Hub(app)
    return app


@lru_cache(maxsize=8)
def _built(name: str) -> str:
    """The address of a built file: another one when it is another file."""
    digest = hashlib.sha256((ROOM / "static" / "build" / name).read_bytes()).hexdigest()
    return url_for("static", filename=f"build/{name}", v=digest[:12])


def _signed_in_only():
    """Nothing but what is open to everybody, for somebody not signed in; for others what their role may do."""
    view = current_app.view_functions.get(request.endpoint or "")
    if request.endpoint == "static" or is_unguarded(view):
        return None
    if not current_user.is_authenticated:
        return current_app.login_manager.unauthorized()  # type: ignore[attr-defined]
    g.actor = current_user.actor
    if view is not None:  # else there is no such page, which is said as such
        must_pass(view, g.actor)
        _must_be_there(request.view_args or {})
    return None


def _must_be_there(named: Mapping[str, Any]) -> None:
    """A removed job is there for nobody, but to be brought back. Raises InputError."""
    job_id = named.get("job_id")
    if job_id is not None and request.endpoint != "home.bring_back" and catalogue.is_removed(job_id):
        raise InputError("That job was removed.", "What was read is kept.", "An administrator may bring it back for 30 days.")


def _headers(response):
    response.headers.setdefault("Content-Security-Policy", POLICY)
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    response.headers.setdefault("X-Frame-Options", "DENY")
    if request.endpoint != "static":
        response.headers.setdefault("Cache-Control", "no-store")
    return response


def _in_the_persons_units(response):
    """Sentences of the core say lengths in mm: here they are converted to the units of this page."""
    if response.mimetype not in ("text/html", "application/json") or response.is_streamed:
        return response
    body = response.get_data(as_text=True)
    if NO_BREAK in body and (told := sentence_in(body, _units_here())) != body:
        response.set_data(told)
    return response


def _units_here() -> Units:
    """The job's, on a page of a job; else those chosen on the pages of the kit."""
    job_id = (request.view_args or {}).get("job_id")
    if job_id is None:
        return words.units()
    with transaction() as session:
        found = session.get(Job, job_id)
        return found.units if found else "mm"


def _errors(app: Flask) -> None:
    def answer(message: str, status: int):
        if request.headers.get("HX-Request"):
            page = render_template("_notice.html", message=message)
            return page, status, {"HX-Reswap": "none", "Notice": "yes"}  # notices.js shows it
        if request.accept_mimetypes.best == "application/json":
            return jsonify(error=message), status
        return render_template("trouble.html", message=message), status

    @app.errorhandler(PlumbError)
    def plumb(error):
        status = 403 if isinstance(error, NotAllowed) else 422 if isinstance(error, InputError) else 409
        return answer(str(error), status)

    @app.errorhandler(CSRFError)
    def forged(error):
        return answer("This page is too old to change anything. Nothing was changed. Load it again.", 400)

    @app.errorhandler(RequestEntityTooLarge)
    def too_large(error):
        return answer(sizes.too_large(), 413)

    @app.errorhandler(OSError)
    def of_the_disk(error):
        app.logger.warning("%s: %s %s", error.strerror, request.method, request.path)
        return answer(FULL, 507) if error.errno in (errno.ENOSPC, errno.EDQUOT) else unknown(error)

    @app.errorhandler(DBAPIError)
    @app.errorhandler(TimeoutError)
    def of_the_database(error):
        """It is away, or refuses what somebody else does or waits for at this moment; else it is a fault of ours."""
        app.logger.warning("%s from the database: %s %s", type(error).__name__, request.method, request.path)
        if (getattr(getattr(error, "orig", None), "sqlstate", None) or "")[:2] in TOGETHER:
            return answer(
                "Somebody changed the same at this moment. Nothing of yours was kept. Look at it, and try again.", 409
            )
        if getattr(getattr(error, "orig", None), "sqlstate", None) == DISK_FULL:
            return answer(FULL, 507)
        if not isinstance(error, AWAY):
            return unknown(error)
        g._login_user = Person.nobody()  # who is signed in the database would have to tell
        return answer("The database is away for a moment. Nothing confirmed is lost. Try again in a few seconds.", 503)

    @app.errorhandler(HTTPException)
    def other(error):
        return answer(f"{error.name}. Nothing was changed. Go back and try again.", error.code)

    @app.errorhandler(Exception)
    def unknown(error):
        app.logger.exception("unexpected")
        return answer("Something went wrong on our side. Nothing was half-written. Try again; if it comes again, tell us.", 500)
