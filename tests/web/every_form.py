"""The form of every route that changes something, as a person sends it, and a place where all that it names is there."""

import json
import re
from io import BytesIO

from zipplumb.demo.seed import PASSWORD
from zipplumb.jobs import people
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.editions import edition_of
from zipplumb.jobs.kit import instruments, stations
from zipplumb.jobs.measure.chain import Chain
from zipplumb.jobs.plan import adding, parts, sheet
from zipplumb.jobs.report import documents, pictures
from zipplumb.jobs.state.recipes import recipe_of
from zipplumb.store.database import transaction
from zipplumb.store.models import Calibration, Instrument, Job, Probe, Row, User
from zipplumb.store.reports import Document

PLANE = {
    "kind": "plane", "name": "Plane", "nominal.shape": "plane", "nominal.point.0": "0", "nominal.point.1": "0",
    "nominal.point.2": "60", "nominal.normal.0": "0", "nominal.normal.1": "0", "nominal.normal.2": "1", "hits": "6",
    "asked.height.on": "1", "asked.height.lower": "-0.1", "asked.height.upper": "0.1", "asked.first": "height", "datum": "",
}  # fmt: skip
MANY = {
    "kind": "plane", "name": "", "set.hits": "5", "set.spacing_mm": "2",
    "set.taking": "time", "set.every_s": "1", "set.inside": "1",
    "set.terms": "radius", "set.note": "n", "key": "height", "lower": "-0.1", "upper": "0.1",
}  # fmt: skip
SECTION = {"faces": "1,2", "across": "other", "i": "0", "j": "1", "k": "1", "at": "30", "through": "0,0,60", "every": "10",
           "stem": "S"}  # fmt: skip
LOOK = json.dumps({"camera": {"eye": [0, -1, 1], "up": [0, 0, 1], "middle": [0, 0, 0], "half_mm": 300}, "shape": 1.6})
# by endpoint: the fields of its form as a person sends them, and what else its address wants
FORMS = {
    "auth.sign_in": {"login": "mallory", "password": PASSWORD},
    "auth.sign_out": {}, "people.keys": {"single": "1"},
    "home.upload": {"name": "Part", "file": None, "units": "mm"},
    "home.new_job": {"name": "Job", "body": "0"},
    "home.put_away": {"away": "1"}, "home.copy_plan": {"called": "Copied"}, "home.remove_job": {}, "home.bring_back": {},
    "home.stop": {}, "home.remove": {},
    "job.make_current": {}, "job.terms": {"seen": "@row"}, "standing.remove": {"row": "@row_id", "seen": "@row"},
    "job.edit": {**PLANE, "seen": "@row"}, "job.edit_back": {"seen": "@row"},
    "standing.move": {"row": "@row_id"}, "standing.put": {"row": "@row_id", "before": "@row_id"}, "standing.bring_back": {},
    "job.units": {"units": "mm", "seen": "@units"},
    "job.move_hand": {"button": "take", "face": "1", "hits": "4", "point": "0,0,60", "wrong": "1",
                      "detail": "1", "number": "0", "side": "1", "away_mm": "110", "lines_mm": "0.5"},
    "planning.refill": {**PLANE, "more": "of#1"}, "planning.plan": PLANE, "planning.refill_row": {**PLANE, "more": "of#1"},
    "part.plan": {}, "part.bodies": {"body": "0"}, "part.plan_alike": {"stem": "Hole"}, "part.take_back": {"row": "@row_id"},
    "part.take_over": {},
    "part.tolerance": {"kind": "position", "zone": "0.1", "datums": "A", "on": "alike", "name": "P", "note": "n"},
    "section.look": SECTION,
    "section.plan": SECTION,
    "section.plan_listed": {"text": "P1;0;0;0;0;0;1\nP2;5;0;0;0;0;1", "list_units": "mm", "every": "2", "stem": "S"},
    "part.plan_edge": {"all": "1"}, "home.new_job_without_cad": {"name": "Bare"},
    "part.plan_edge_point": {"point": "0,0,60", "stem": "E"},
    "part.plan_place": {"point": "0,0,60", "normal": "0,0,1"},
    "many.look": {**MANY, "row": "@row_id"}, "many.set_them": {**MANY, "row": "@row_id", "seen": "@many"},
    "planning.look_at_list": {"text": "A;1;2;3", "list_units": "mm"},
    "planning.plan_list": {"text": "A;1;2;3", "list_units": "mm"},
    "align.tried": {"kind": "steps", "steps.0.step": "turn", "steps.0.features.0.is": "row", "steps.0.features.0.row": "1",
                    "steps.0.axis": "+Z", "steps.0.degrees": "0"},
    "align.preview": {"name": "A", "planes.0.feature": "1"}, "align.copy": {},
    "mounted.tried": {"row": "@row_id", "1.X": "1", "1.level": "1", "1.weight": "0.1"},
    "mounted.keep": {"row": "@row_id", "1.X": "1", "1.level": "1", "1.weight": "0.1", "seen": "@row"},
    "rough.pick": {"picks": "0,0,60,0,0,1", "point": "0,0,60", "normal": "0,0,1", "without": "1", "better": "0,0,60,0,0,1"},
    "rough.plan": {"picks": "0,0,60,0,0,1;9,0,60,0,0,1;0,9,60,0,0,1;0,-9,6,0,-1,0;9,-9,6,0,-1,0;-9,0,6,-1,0,0"},
    "laid.pick": {"on_part": "1,2,3", "on_scan": "", "point": "1,2,3"},
    "laid.plan": {"scan": "@row_id", "place": "0,0,0,1,2,3", "as_good": "1", "start": "@row_id", "on_part": "1,2,3;4,5,6;7,9,1",
                  "on_scan": "1,2,3;4,5,6;7,9,1"},
    "rough.proof": {}, "points.plan": {"of": "@row_id", "zone": "0.5"},
    "bolt_circle.plan": {"plane": "@row_id", "clock": "@row_id", "of": "@row_id"},
    "points.zone": {"zone": "0.5"}, "points.again": {}, "without_cad.begin": {},
    "kit.bring": {"unmoved": "1"}, "kit.sighting": {"aside": "1"},
    "align.plan": {}, "align.place": {"turn": "0,0,3.14"}, "align.activate": {"row": "@row_id"},
    "measure.finish": {}, "measure.undo": {"sweep": "1"}, "measure.step": {},
    "measure.just_touch": {}, "measure.next_way": {},
    "measure.choose": {"code": "fit:plane"}, "measure.become": {"kind": "cone", "seen": "@row"},
    "measure.join": {"into": "1"}, "measure.give_back": {}, "measure.side": {"air": "1"},
    "measure.hit": {"aside": "1"},
    "scans.cut": {"plane": "@row", "side": "under", "offset": "1.5"}, "scans.uncut": {},
    "scans.only_edges": {"only": "1"},
    "in_scans.plan_holes": {"hole": "1", "seen": "x", "plane": "@row", "stem": "Hole"},
    "in_scans.plan_surface": {"at": "1,2,3", "kind": "plane", "seen": "x", "stem": "Seat"},
    "point_files.bring": {"unit": "mm", "u": "0.05", "seen": "place", "x": "0", "y": "0", "z": "900", "station": ""},
    "point_files.forget": {},
    "scan_sections.plan": {"axis": "X", "at": "10", "count": "2", "apart": "20", "thick": "1", "zone": "0.1"},
    "scan_sections.measure": {"begin": "1,2,3", "end": "4,5,6", "kind": "arc"},
    "maps.limit_face": {"lower": "-0.1", "upper": "0.1"}, "maps.limit_by_profiles": {},
    "maps.compare": {"first": "@row_id", "lower": "-0.1", "upper": "0.1"},
    "maps.touched": {"of": "", "lower": "-0.1", "upper": "0.1"},
    "maps.plan": {"reach": "3", "lower": "-0.1", "upper": "0.1"}, "maps.pin": {"at": "1,2,3"}, "maps.pins": {},
    "scans.give": {"rows": "@row"}, "scans.take_back": {},
    "measure.look": {"face": "1", "at": "0,0,60", "normal": "0,0,1", "to": "9,0,60", "shape": "line", "side": "30",
                     "points": "49"},
    "derive.as_one_goes": {"way": "last", "seen": "@way"},
    "place.placing": {"zone": "0.05", "+X": "toward the rail", "-Z": "down", "seen": "@placing"},
    "place.add": {"name": "Foot", "target": "1", "adjusters": "Foot 1; 0; 0; 0; +Z; 1.5; 4; 4", "belongs": "nominal",
                  "body": "0"},
    "fitter.make": {}, "fitter.withdraw": {},
    "rehearsal.look": {"instrument": "@instrument_id", "A.X": "0", "A.Y": "-900", "A.Z": "500"},
    "rehearsal.propose": {"instrument": "@instrument_id", "far": "900", "high": "500"},
    "proving.plan": {"way": "1:4"}, "proving.mend": {},
    "proving.ask": {"instrument": "@instrument_id", "used": "75", "far": "900", "high": "500"},
    "proving.take_over": {"row": "@row_id"},
    "place.turned": {"round": "0"}, "place.look": {}, "place.remove": {"seen": ""}, "place.fix": {"seen": ""},
    "place.loosen": {"seen": ""},
    "derive.plan": {"key": "flatness_", "of": "@row_id", "diameter": "5", "height": "3", "offset": "1", "zone": "0.1"},
    "pieces.begin": {"serial": "P-2", "identity": "Order: 4711", "along": "@instrument_id"},
    "pieces.name": {"serial": "P-1", "identity": "Order: 4711"}, "pieces.offer": {}, "pieces.remove": {},
    "pieces.take_over": {"key": "0", "do": "take", "seen": ""}, "pieces.report": {"kind": "csv"},
    "report.decide": {"rule": "simple", "seen": "@rule"},
    "report.make": {"kind": "csv", "row": "@row_id"},
    "report.begin": {"name": "Report B", "layout": ""}, "report.remove": {}, "report.keep_layout": {"name": "Layout B"},
    "report.drop_layout": {},
    "report.arrange": {"document": "@document_id", "called": "As asked", "paper": "Letter", "part": "0", "0.title": "How it is",
                       "move": "0:up", "add": "notes", "seen": "@document"},
    "pictured.keep": {"seen": LOOK, "caption": "c", "tagged": "1", "of": "", "first": "Plane", "last": "", "kind": "plane",
                      "word": "out", "seen_only": "1", "shows": "name", "arranged": "rows"},
    "office.make": {"name": "The office"}, "office.withdraw": {},
    "pictured.drop": {}, "pictured.tag": {"row": "@row_id", "at": "0.1,0.2"},
    "pictured.logo": {"logo": None, "document": "@document_id"},
    "instruments.add": {"name": "Arm", "kind": "arm", "host": "127.0.0.1", "port": "7301", "u_hit": "0.01"},
    "instruments.correct": {"name": "Arm", "host": "127.0.0.1", "port": "7301", "u_hit": "0.01", "seen": "@instrument"},
    "instruments.remove": {"seen": "@instrument"},
    "instruments.put_on": {"probe": "@probe_id"}, "instruments.units": {"units": "mm"},
    "instruments.move_hand": {"button": "take", "way": "0", "hits": "4", "do": "nan", "probe": "x"},
    "probes.add": {"name": "Ball", "kind": "ball", "diameter": "6", "diameter_unit": "mm", "length": "100", "beside": "0",
                   "answer": "keep"},
    "probes.correct": {"name": "Light", "kind": "scanner", "length": "100", "beside": "0", "head_nearest_mm": "70",
                       "head_farthest_mm": "150", "head_width_mm": "70", "head_points": "512", "head_lines_s": "100",
                       "answer": "likely", "seen": "@probe"},
    "probes.remove": {"seen": "@probe"}, "probes.calibration": {},
    "trials.begin": {"kind": "sphere_check", "instrument": "@instrument_id", "probe": "@probe_id",
                     "certified": "25.4", "certified_unit": "mm",
                     "limit": "0.05", "job": "@job_id", "seat": "cone", "nests": "3", "length": "500", "length_unit": "mm",
                     "answer": "keep", "again": "1"},
    "trials.act": {},
    "people.add": {"login": "new", "name": "New", "role": "reviewer", "password": "long enough to be one"},
    "people.change": {"role": "technician", "name": "Tamsin Orrell", "active": "1", "seen": "@person"},
    "people.set_password": {"password": PASSWORD}, "people.end_sessions": {},
    "people.own_password": {"old": PASSWORD, "password": PASSWORD},
}  # fmt: skip
WORDS = {"direction": "up", "do": "touch", "act": "finish", "stage": "part", "key": "1.0"}


def made_place(stack):
    """A job of its own, with all that it needs, and another person's job beside it."""
    actor = Actor(1, "Tamsin", "technician")
    with transaction() as session:
        part = session.get(Job, stack.job).part_id
    mine, other = (sheet.create_job(actor, "Hostile", part) for _ in range(2))
    rows = []
    for job in (mine, mine, other):
        rows.append(adding.plan_typed(actor, job, "plane", {k: v for k, v in PLANE.items() if k != "kind"}))
    arm = instruments.add_instrument(f"Arm {mine}", "arm", "127.0.0.1", 1, 0.012, instruments.spec_from_form("arm", {}))
    cal = instruments.add_calibrated_probe(arm, f"Ball {mine}", [0.0, 0.0, 180.0], 6.0, 0.01, 0.002, "")
    stations.bring(actor, mine, arm)
    with transaction() as session:
        probe = session.get(Calibration, cal).probe_id
    poem = parts.add_part(actor, "Poem", "poem.step", BytesIO(b"x"))
    tagged = json.loads(LOOK) | {"tags": {}}
    document = documents.begin(actor, mine, "As asked")
    return {
        "document_id": document, "picture_id": pictures.keep(actor, mine, tagged, "c"),
        "layout_id": documents.keep_layout(actor, mine, document, f"Layout {mine}"),
        "job_id": mine, "row_id": rows[0], "other_row": rows[2], "part_id": poem,
        "instrument_id": arm, "probe_id": probe, "calibration_id": cal,
        "user_id": people.add_person(f"victim-{mine}", "Victim", "technician", PASSWORD),
    }  # fmt: skip


def posts(app):
    return {r.endpoint: r for r in app.url_map.iter_rules() if "POST" in r.methods}


def filled(form, place):
    """With the ids of the place; what a page was seen with is filled in when the form is sent (see ``sent``)."""
    known = {f"@{name}": str(number) for name, number in place.items()}
    return {name: known.get(value, value) for name, value in form.items()}


def _of_job(*fields):
    return lambda session, place: edition_of(session.get(Job, place["job_id"]), *fields)


SEEN = {
    "@row": lambda session, place: sheet.seen_of(recipe_of(session.get(Row, place["row_id"]))),
    "@probe": lambda session, place: edition_of(session.get(Probe, place["probe_id"])),
    "@instrument": lambda session, place: edition_of(session.get(Instrument, place["instrument_id"])),
    "@person": lambda session, place: edition_of(session.get(User, place["user_id"])),
    "@way": lambda session, place: edition_of(Chain.of_job(session.get(Job, place["job_id"])), "way"),
    "@document": lambda session, place: edition_of(session.get(Document, place["document_id"]), *documents.FIELDS),
    "@units": _of_job("units"), "@placing": _of_job("placing"), "@rule": _of_job("rule"),
}  # fmt: skip


def sent(who, form, place):
    """As it goes off, from a page that was opened this moment."""
    seen = form.get("seen")
    if seen in SEEN:
        with transaction() as session:
            form = {**form, "seen": SEEN[seen](session, place)}
    elif seen == "@many":
        looked = who.post(f"/jobs/{place['job_id']}/many/look", form).get_data(as_text=True)
        form = {**form, "seen": (re.findall(r'name="seen" value="([^"]*)"', looked) or [""])[0]}
    return form


def address(app, rule, place, **given):
    values = {}
    for name, converter in rule._converters.items():
        is_id = "_Id" in type(converter).__name__
        values[name] = given.get(name) or place.get(name) or (1 if is_id else WORDS[name])
    with app.test_request_context():
        return rule.build({**values})[1]
