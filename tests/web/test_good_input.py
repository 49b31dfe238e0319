"""What people type that is right goes through every form, however it is spelled."""

import pytest
from every_form import FORMS, address, filled, posts, sent

# chosen on a page or sent by it, and typed by nobody
CHOSEN = (
    "1.X", "1.level", "@", "active", "again", "air", "aside", "body", "detail", "direction", "face", "faces", "first", "from",
    "hits_of", "instrument", "into", "job", "key", "last", "normal", "number", "of", "on", "picks", "point", "probe", "round",
    "row", "target", "to", "turn", "unmoved", "wrong", "without", "better", "inside", "feature", "at",
)  # fmt: skip
LENGTHS = (  # beside which a unit may be typed
    "lower", "upper", "zone", "diameter", "length", "offset", "spacing_mm", "certified", "u_hit", "height", "limit", "far",
    "high", "side", "weight", "every", "radius",
)  # fmt: skip
ONCE = {"instruments.add", "instruments.correct", "probes.add", "probes.correct", "home.new_job", "home.upload"}  # a name each


def number(word):
    try:
        return float(word)
    except ValueError:
        return None


def typed(form):
    """The fields of a form in which somebody types a number."""
    names = (name for name, value in form.items() if value and number(value) is not None)
    return [name for name in names if not {name, name.rpartition(".")[2]} & set(CHOSEN)]


def spelled(field, word):
    """One number as others write it."""
    found = [f" {word} ", f"\u00a0{word}\u202f", f"+{word}" if number(word) >= 0 else word.replace("-", "\u2212")]
    if "." in word:
        found += [word.replace(".", ","), f"{word}0", word.replace("0.", ".", 1)]
    if field.rpartition(".")[2] in LENGTHS:
        found += [f"{word} mm", f"{word}mm", f"{number(word) / 25.4!r} in"]
    return found


@pytest.mark.parametrize("endpoint", [e for e, form in FORMS.items() if typed(form)])
def test_a_number_is_read_however_it_is_spelled(app, somebody, place, endpoint):
    rule = posts(app)[endpoint]
    who, path, form = somebody(endpoint, place), address(app, rule, place), filled(FORMS[endpoint], place)
    for field in typed(form):
        for count, word in enumerate(spelled(field, form[field])):
            more = {"name": f"{form['name']} {field} {count}"} if endpoint in ONCE else {}
            answer = who.post(path, sent(who, {**form, **more, field: word}, place))
            said = answer.get_data(as_text=True)
            assert answer.status_code < 400 or f"“{word.strip()[:20]}" not in said, (field, word, said[-400:])
            assert answer.status_code < 400 or "is not a number" not in said, (field, word, said[-400:])
            assert "by somebody else" not in said, (field, word)  # else nothing of the form was read
