"""The prompt: what to do now, short enough to be read from three metres."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ...core.fitting import SURE, SpoilingHit
from ...core.sheet import Needed, RowResult, SheetRow
from ...core.sheet.proving.settled import settled
from ...core.units import count_text, length_text, sentence_in
from ...store.models import Instrument
from ..kit import stations
from ..plan import without_cad
from ..state.results import JobResults
from ..state.rows_text import form_text, row_text
from ..words import words_for
from ..words._shared import CHOICES
from . import chain, onward, scanning
from .astray import Astray, astray
from .touching import chosen, open_row, options, plane_of_touch

COUNTS = {1: "one", 2: "two", 3: "three"}
BRING_ONE = "Bring an instrument to this job.", "Choose which one stands here.", "warn"
TO_KIT, TO_PART, TO_REPORT = ("kit", "Choose it on Kit"), ("part", "To the part"), ("report", "To the report")
BLIND = ("lost", "searching")  # what an instrument says of its target
MATTERS_MM = 0.03  # a hit less far off is left alone, however sure
MATTERS_AMONG_FEW_MM = 0.1  # where it may be the form as well


@dataclass(frozen=True)
class Prompt:
    """The Now band. ``tone`` is "", "warn" or "ask"; ``line`` explains or warns.

    ``blind``: the instrument sees nothing now. ``live``: the large number is the tip's own, as it moves. ``options``: of
    something touched, what it may be: code, words, whether it is the chosen one. ``leads``: the stage where what is asked is
    done, and the words of the way there.
    """

    title: str
    line: str = ""
    tone: str = ""
    row: int | None = None
    number: int = 0
    of: int = 0
    hits: int = 0
    hits_name: str = "Hits"
    wanted: int = 0
    form: str = ""
    size_name: str = ""
    size: str = ""
    side: str = ""
    question: tuple[tuple[int, str], ...] = ()
    options: tuple[tuple[str, str, bool], ...] = ()
    last: str = ""
    way: str = ""
    live: bool = False
    blind: bool = False
    leads: tuple[str, str] | None = None


def prompt(state: JobResults, instrument: Instrument | None) -> Prompt:
    """The prompt for a job's current row."""
    measured = state.measured
    row = state.current
    ready = instrument is not None and instrument.connected
    if ready and (offer := chain.offered(state)) is not None:
        return _dimension(state, offer)
    if ready and state.job.touching and _nothing_open(state):
        return _just_touch(state)
    if row is None:
        return _nothing_planned(state, instrument)
    if row.recipe.takes_light:
        return _scanning(state, row, instrument)
    found, words, ties = state.results[row.id], words_for(row.recipe), ""
    lost = astray(state, row) if ready else None
    title, line, tone = _words(state, row, found, instrument, lost)
    if ready and (ties := stations.tie_words(state, row)):
        title, line, tone = f"{words.ask(row.recipe, state.job.units).rstrip('.')}, from here too.", ties, ""
    if ready and (another := stations.ball_words(state, row)):
        line, tone = another, "warn"
    asks = found.state == "asks"
    air = found.side.air if found.side else 0
    size_name, size = _size(state, row, found)
    offered = options(state, row) if row.recipe.proposes and found.hits else []
    now = chosen(row, offered) if offered else None
    return Prompt(
        title=title,
        line=sentence_in(line, state.job.units),
        tone=tone,
        row=row.id,
        number=measured.index(row) + 1,
        of=len(measured),
        hits=stations.hits_from(state, row, state.station.id) if ties and state.station else found.hits,
        wanted=row.recipe.wanted_hits,
        form=form_text(row, found, state.job.units) or "–",
        size_name=size_name,
        size=size,
        side=words.side(row.recipe, air) if air and not asks else "",
        question=words.answers(row.recipe) if asks and lost is None else (),
        options=tuple((o.code, o.words, o is now) for o in offered) or _may_do(lost),
        last=_last(state, row),
        way=CHOICES.get(row.recipe.way_held, ""),
        live=row.recipe.rests_on_surfaces,
        blind=instrument is not None and (not instrument.connected or instrument.target in BLIND),
        leads=TO_KIT if instrument is None else TO_REPORT if _all_done(state, row) else None,
    )


def _scanning(state: JobResults, row: SheetRow, instrument: Instrument | None) -> Prompt:
    """Of a scan: what is there of it, and what to do next."""
    cloud, name = state.results[row.id].cloud, row.recipe.name
    asked = words_for(row.recipe).ask(row.recipe, state.job.units)
    lines = f"{cloud.lines} line{'s' if cloud.lines != 1 else ''}"
    said: Prompt = {
        "todo": Prompt(asked, "Hold the button and pass the light over it; finish when all is seen."),
        "taking": Prompt(f"{name}: {lines}.", "Pass over what is not seen yet, from other sides too; then finish."),
        "waits": Prompt(f"{name}: worked out in a moment.", f"{cloud.message} Other rows may be measured meanwhile."),
        "done": Prompt(f"{name}: {count_text(cloud.read)} points.", _after_a_scan(state, row)),
        "failed": Prompt(f"{name} cannot be worked out.", cloud.message, "warn"),
    }[cloud.state]
    if instrument is None:
        said = Prompt(*BRING_ONE, leads=TO_KIT)
    elif not instrument.connected:
        kept = f"{lines} of {name} {'is' if cloud.lines == 1 else 'are'} kept"
        lost = f"The {instrument.kind} is lost. Look at its cable."
        said = Prompt(lost, f"{instrument.trouble} {kept}; scanning goes on when it is back.", "warn")
    elif cloud.state in ("todo", "taking") and not scanning.scans(instrument):
        said = Prompt(f"Put the scanner on. {asked}", "Choose it on Kit once it is calibrated.", "warn", leads=TO_KIT)
    elif instrument.trouble:
        said = replace(said, line=instrument.trouble, tone="warn")
    elif state.measured and _all_done(state, row) and all(state.results[r.id].state == "done" for r in state.measured):
        said = Prompt("All rows are done. Make the report.", f"{said.title} {said.line}", leads=TO_REPORT)
    blind = instrument is not None and not instrument.connected
    return replace(said, row=row.id, of=len(state.measured), hits=cloud.lines, hits_name="Lines", form="–", blind=blind)


def _after_a_scan(state: JobResults, scan: SheetRow) -> str:
    takes = sum(Needed("cloud", scan.id) in row.needs for row in state.measured)
    if takes:
        return f"{takes} row{' takes' if takes == 1 else 's take'} {'its' if takes == 1 else 'their'} points from it."
    return "Cut away what is not of the part, then give its points to rows."


def _all_done(state: JobResults, row: SheetRow) -> bool:
    if not row.finished or state.results[row.id].state != "done" or not state.sheet.finished:
        return False
    return not any(onward.wants_more(state, each) for each in state.measured)


def _nothing_planned(state: JobResults, instrument: Instrument | None) -> Prompt:
    if state.job.part.bodies:
        return Prompt("Plan a row: pick a face of the part.", of=len(state.measured), leads=TO_PART)
    if instrument is None:
        return Prompt(*BRING_ONE, leads=TO_KIT)
    return Prompt("Just touch, or type what is to be measured.", of=len(state.measured))


def _dimension(state: JobResults, offer: chain.Offer) -> Prompt:
    """A dimension that came with the feature before, and what to do next."""
    row = state.current
    goes_on = state.job.touching or row is None or row.finished
    then = "Touch the next." if goes_on or row is None else words_for(row.recipe).ask(row.recipe, state.job.units)
    line = f"Next and back choose another, finish keeps it. {then}"
    title = sentence_in(f"{offer.title}.", state.job.units)
    return Prompt(title, line, row=offer.row, of=len(state.measured), options=offer.options)


def _nothing_open(state: JobResults) -> bool:
    """The next hit begins something new."""
    row = state.current
    return row is None or (open_row(state) is None and state.results[row.id].state != "asks")


def _which_axis(state: JobResults) -> Prompt:
    growing = without_cad.growing_row(state)
    aligned = None if growing is None else state.results[growing.id].alignment
    last = _last(state, None)
    if aligned is None:
        return Prompt("Touch a plane.", "Then next and back choose which axis it faces, and finish accepts.", last=last)
    loose = " and ".join(motion.words for motion in aligned.ledger.loose)
    return Prompt("Touch the next plane.", f"The part still {loose}.", of=len(state.measured), last=last)


def _just_touch(state: JobResults) -> Prompt:
    if state.job.touching == without_cad.AXES_MODE:
        return _which_axis(state)
    plane = plane_of_touch(state)
    where = "in space" if state.job.touching == "space" else f"in the plane of {plane}" if plane else "in a plane"
    other = "R: in a plane instead." if state.job.touching == "space" else "R: back to the sheet."
    last, title = _last(state, None), f"Just touch, {where}."
    if last:
        return Prompt(title, of=len(state.measured), last=f"{last}. {other}")
    return Prompt(title, f"Hit anything; finish when it is right. {other}", of=len(state.measured))


def _touched_words(state: JobResults, row: SheetRow, found: RowResult) -> tuple[str, str, str]:
    """The recognised shape, how well it fits, and whether to continue, as text."""
    offered = options(state, row)
    now = chosen(row, offered)
    if now is None:
        return "Touch on.", found.message, ""
    left = "So few hits prove nothing: touch on."
    if found.fit is not None and found.fit.spare > 0:
        left = f"The hits lie {length_text(now.error_mm, state.job.units)} off it."
    more = " Next and back choose another." if len(offered) > 1 else ""
    return f"{now.words}? Finish to accept.", f"{left}{more}", ""


def _may_do(lost: Astray | None) -> tuple[tuple[str, str, bool], ...]:
    return () if lost is None else tuple((code, words, False) for code, words in lost.options)


def _words(
    state: JobResults, row: SheetRow, found: RowResult, instrument: Instrument | None, lost: Astray | None
) -> tuple[str, str, str]:
    name, words = row.recipe.name, words_for(row.recipe)
    if instrument is None:
        return BRING_ONE
    if not instrument.connected:
        kept = "All hits are kept"
        if found.hits:
            kept = f"One hit of {name} is kept" if found.hits == 1 else f"{found.hits} hits of {name} are kept"
        line = f"{instrument.trouble} {kept}; measuring goes on when it is back."
        return f"The {instrument.kind} is lost. Look at its cable.", line, "warn"
    if instrument.target == "lost":
        return "Target lost.", f"No sight of {name}. Clear the beam's way, or bring the target back into it.", "warn"
    if instrument.target == "searching":
        return "Looking for the target.", "The instrument searches for it. Hold it still.", "warn"
    if lost is not None:
        again = " Finish again where that is right." if found.state == "asks" else ""
        return f"{name}: do these hits belong to it?", f"{lost.words}{again}", "ask"
    if found.state == "asks" and found.side is not None:
        why = words.doubt(row.recipe, found.side)
        return f"{name}: which side is air?", f"{why} Pull off again and press finish, or choose here.", "ask"
    if _all_done(state, row):
        return "All rows are done. Make the report.", f"Touch again, and the hits go to {name}.", ""
    if row.recipe.proposes and found.hits:
        return _touched_words(state, row, found)
    if found.state == "failed":
        return f"{name} cannot be worked out.", found.message, "warn"
    if found.hits == 0:
        return words.ask(row.recipe, state.job.units), instrument.trouble, "warn" if instrument.trouble else ""
    if warning := spoiling_words(state, row, found):
        return f"{name}: one hit is off.", warning, "warn"
    if unnamed := unnamed_words(state, row, found):
        return f"{name}: {unnamed[0]}.", unnamed[1], "warn"
    if row.recipe.wanted_hits == 0:  # as many as one likes
        return words.ask(row.recipe, state.job.units), "Finish when it is enough.", ""
    left = row.recipe.wanted_hits - found.hits
    if (first := row.recipe.hits_of_plane - found.hits) > 0:
        return f"{name}: its plane, {first} more.", "First the plane that it lies in, then the feature itself.", ""
    if left > 0 and (known := _settled_words(row, found, left)):
        return *known, ""
    if left > 0:
        where = "At the targets on the stage, so that it is settled." if onward.wants_more(state, row) else ""
        told = (where, found.message if found.hits > 3 else "", *found.doubts)
        return f"{name}: {left} more.", " ".join(filter(None, told)), ""
    if found.state == "waits":
        return f"{name}: finish.", found.message, ""
    then = "pull off and finish" if row.recipe.pulls_off else "finish"
    return f"{name}: {then}.", " ".join((*found.doubts, *found.warnings)), ""


def _settled_words(row: SheetRow, found: RowResult, left: int) -> tuple[str, str] | None:
    """That what is planned of it is not needed any more; never before its form was looked at by as many hits as is practice."""
    practice = row.recipe.practice_hits
    if not practice or found.hits < practice:
        return None
    so_many = f"with {found.hits} of {row.recipe.wanted_hits} hits"
    known = settled(found, left)
    told = {
        "in": (f"{row.recipe.name}: settled, in.", f"Proven {so_many}. Finish if you like."),
        "out": (f"{row.recipe.name}: settled, out.", f"Proven {so_many}: more would not change it. Finish."),
        "no use": (f"{row.recipe.name}: {left} more.", "More hits here would hardly prove it. Its details tell what would."),
    }
    return told.get(known)


def spoiling(found: RowResult) -> SpoilingHit | None:
    """The hit that surely spoils a row's form by an amount that matters, if there is one; of a scan there are many such points,
    and none is to be taken again."""
    worst = found.fit.worst if found.fit else None
    if worst and found.feature is not None and worst.index >= len(found.feature.counted) - found.feature.scanned:
        return None
    return worst if worst and worst.sure > SURE and abs(worst.off_by_mm) >= MATTERS_MM else None


def spoiling_words(state: JobResults, row: SheetRow, found: RowResult) -> str:
    """A sentence naming the hit that spoils the form, where one surely does."""
    worst = spoiling(found)
    if worst is None or found.feature is None:
        return ""
    number = state.readings[row.id].keys.index(found.feature.counted[worst.index]) + 1
    off = length_text(abs(worst.off_by_mm), state.job.units)
    return f"Hit {number} lies {off} off what the others say. Undo it, or set it aside."


def unnamed_words(state: JobResults, row: SheetRow, found: RowResult) -> tuple[str, str] | None:
    """Where a hit must be off and so few cannot tell which: how many more are wanted, and why."""
    u_mm = state.readings[row.id].u_hit_mm if row.id in state.readings else 0.0
    off = found.fit.unnamed(u_mm) if found.fit is not None and u_mm > 0 else None
    if off is None or off.off_by_mm < MATTERS_AMONG_FEW_MM:
        return None
    count, by = len(found.fit.residuals), length_text(off.off_by_mm, state.job.units)  # type: ignore[union-attr]
    more = f"{COUNTS.get(off.more, off.more)} more hit{'s' if off.more > 1 else ''}"
    return more, f"One of these {count} is off by about {by}, or its form is: {more} tell{'' if off.more > 1 else 's'} which."


def _size(state: JobResults, row: SheetRow, found: RowResult) -> tuple[str, str]:
    """The large number: the deviation of the row's first characteristic, or the size itself of what has one."""
    text = row_text(state, row.id)
    first = text.first
    if first is None or found.state == "asks":
        return "Deviation", "–"
    if found.first is not None and (found.first.nominal is None or found.first.key in ("diameter", "width")):
        return first.label.capitalize(), first.actual or "–"
    return "Deviation", first.deviation or "–"


def _last(state: JobResults, current: SheetRow | None) -> str:
    """The result of the row before, so that a finish is seen although the prompt has moved on; None: of the current row."""
    here = state.current if current is None else current
    if here is None:
        return ""
    before = (state.rows[place] for place in range(state.index_of(here.id) - (current is not None), -1, -1))
    done = next((r for r in before if r.finished and state.results[r.id].characteristics), None)
    if done is None:
        return ""
    text = row_text(state, done.id)
    first = text.worst
    if first is None or not first.actual:
        return ""
    if first.deviation == "held":
        return f"{text.shape} {text.name}: held by the alignment{f', form {text.form}' if text.form else ''}"
    value = first.actual + (f" ({first.deviation})" if first.deviation else "")
    by = f" by {text.out_by}" if text.word == "out" and text.out_by else ""
    return f"{text.shape} {text.name}: {value} {text.word}{by}"
