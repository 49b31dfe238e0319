"""Probes, calibrations and checks, as acts: what is refused, what is kept, what is taken back."""

import numpy as np
import pytest
from arm_at_work import OFFSET, all_round, believed, swings
from job_bench import REVIEWER, TECHNICIAN, numbers

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.core.probing import ByDistance, ByTime
from zipplumb.core.uncertainty import Source
from zipplumb.devices.hits import HitBatch
from zipplumb.jobs.kit import instruments, probes, trials, trust
from zipplumb.jobs.kit.instrument_kinds import INSTRUMENT_KINDS
from zipplumb.jobs.link import presses
from zipplumb.store.database import transaction
from zipplumb.store.models import Calibration, Instrument, Reading, Trial

ROUND = all_round()


def ball(called, **more):
    form = {"name": called, "kind": "ball", "diameter": "6", "diameter_unit": "mm", "length": "186"} | more
    return probes.add_probe(TECHNICIAN, probes.typed_probe(form))


def sent(bench, trial, poses, kind="press", sweep=None, session="s"):
    """What the instrument sends: one press each, or a whole sweep."""
    for some in [poses] if kind == "sweep" else [p[None] for p in poses]:
        n = next(numbers) * 1000
        ns = tuple(range(n, n + len(some)))
        values = tuple(float(v) for v in some.ravel())
        batch = HitBatch(
            kind, session, sweep or n, ns, tuple(float(k) for k in ns), values, (float("nan"),) * 7 * len(ns), (1,) * len(ns)
        )
        presses.keep(bench.arm, batch, None)


def outcome(trial):
    with transaction() as session:
        return trials.worked_out(session, session.get(Trial, trial))


def on_arm(bench):
    with transaction() as session:
        return session.get(Instrument, bench.arm).calibration


@pytest.fixture
def calm(bench):
    yield bench
    with transaction() as session:
        session.get(Instrument, bench.arm).trial_id = None


def test_a_unit_is_never_silent_and_a_name_is_used_once(stack):
    for form, words in (
        ({"diameter_unit": ""}, "unit of the diameter was not chosen"),
        ({"diameter": "six"}, "not a number"),
        ({"diameter": "-3"}, "above zero"),
        ({"name": " "}, "has no name"),
        ({"kind": "spoon"}, "kind of probe"),
    ):
        with pytest.raises(InputError, match=words):
            ball("Refused", **form)
    with pytest.raises(InputError, match="meant in mm"):
        ball("Huge", diameter="25", diameter_unit="in")
    ball("Once")
    with pytest.raises(InputError, match="already"):
        ball("Once")
    with pytest.raises(NotAllowed):
        probes.add_probe(REVIEWER, probes.typed_probe({"name": "x", "kind": "scanner"}))


def test_a_pivot_is_refused_until_it_is_determined_and_then_calibrates(calm, random):
    probe = ball(f"Pivoted {calm.job}")
    trial = trials.begin(TECHNICIAN, "pivot", calm.arm, {"probe": str(probe), "seat": "cone"})
    assert on_arm(calm).method == "drawn"
    with transaction() as session:
        assert isinstance(trials.taking_of(session.get(Trial, trial).kind), ByTime)
    with pytest.raises(InputError, match="under way"):
        trials.begin(TECHNICIAN, "pivot", calm.arm, {"probe": str(probe), "seat": "cone"})
    chain, angles, sweeps = swings()
    poses = believed(chain, angles, random)
    for k in (1, 2):
        sent(calm, trial, poses[sweeps == k], "sweep", sweep=k)
    assert trials.finish(TECHNICIAN, trial) == "asks"
    assert on_arm(calm).method == "drawn"
    trials.undo(TECHNICIAN, trial)
    assert outcome(trial).taken == 1
    for k in (2, 3, 4):
        sent(calm, trial, poses[sweeps == k], "sweep", sweep=10 + k)
    assert trials.finish(TECHNICIAN, trial) == "in"
    cal = on_arm(calm)
    assert cal.method == "pivot"
    assert np.allclose(cal.offset_mm, OFFSET, atol=0.01)
    with pytest.raises(InputError, match="not under way"):
        trials.finish(TECHNICIAN, trial)


def test_a_batch_sent_twice_is_kept_once(calm, random):
    trial = trials.begin(TECHNICIAN, "sphere", calm.arm, {"certified": "25.4", "certified_unit": "mm"})
    n = next(numbers) * 1000
    batch = HitBatch("press", "again", n, (n,), (1.0,), tuple(believed(*ROUND, random)[0]), (float("nan"),) * 7)
    for _ in range(2):
        presses.keep(calm.arm, batch, None)
    with transaction() as session:
        assert session.query(Reading).filter_by(trial_id=trial).count() == 1
        assert isinstance(trials.taking_of(session.get(Trial, trial).kind), ByDistance)
    trials.end(TECHNICIAN, trial)
    with transaction() as session:
        assert session.get(Trial, trial).state == "given up"


@pytest.mark.parametrize(
    ("kind", "form", "words"),
    [
        ("sphere", {"certified": "25.4"}, "unit of the diameter"),
        ("sphere", {"certified": "1", "certified_unit": "mm"}, "meant in inches"),
        ("pivot", {}, "seat was not chosen"),
        ("faces", {}, "takes no such check"),
        ("dance", {}, "no calibration or check"),
        ("scanner", {"certified": "25.4", "certified_unit": "mm"}, "is a ball"),
        ("length", {"length": "x", "length_unit": "mm"}, "not a number"),
    ],
)
def test_what_cannot_begin_is_refused_in_words(calm, kind, form, words):
    with pytest.raises(InputError, match=words):
        trials.begin(TECHNICIAN, kind, calm.arm, form)
    with transaction() as session:
        assert session.get(Instrument, calm.arm).trial_id is None


def test_a_failed_check_puts_rows_in_doubt_and_a_new_calibration_clears_them_until_taken_back(calm, random):
    row = calm.plan_plane("Top", (0, 0, 0), (0, 0, 1))
    calm.touch_plane(row)
    old = on_arm(calm).id
    before = calm.state().results[row]
    assert before.doubts == ()
    check = trials.begin(TECHNICIAN, "sphere_check", calm.arm, {"certified": "25", "certified_unit": "mm"}, calm.job)
    sent(calm, check, believed(*ROUND, random)[:20])
    assert trials.finish(TECHNICIAN, check) == "out"
    assert "Sphere check failed" in calm.state().results[row].doubts[0]
    with transaction() as session:
        assert session.get(Trial, check).result["touched"] == [{"job": "Test", "job_id": calm.job, "rows": ["Top"]}]
        assert trust.trust_in(session, session.get(Instrument, calm.arm), calm.job).due[0].startswith("Sphere check failed")
    with pytest.raises(InputError, match="no newer"):
        probes.apply_newest(TECHNICIAN, old)
    trial = trials.begin(TECHNICIAN, "sphere", calm.arm, {"certified": "25.4", "certified_unit": "mm"})
    sent(calm, trial, believed(*ROUND, random))
    assert trials.finish(TECHNICIAN, trial) == "in", outcome(trial).why
    assert calm.state().results[row].doubts  # what was read keeps the calibration that it was read with
    probes.apply_newest(TECHNICIAN, old)
    after = calm.state().results[row]
    assert after.doubts == ()
    assert not np.allclose(after.feature.shape.point, before.feature.shape.point, atol=1e-4)
    probes.take_back(TECHNICIAN, old)
    again = calm.state().results[row]
    assert again.doubts
    assert np.array_equal(again.feature.shape.point, before.feature.shape.point)
    with pytest.raises(InputError, match="Nothing was applied"):
        probes.take_back(TECHNICIAN, old)
    probes.lift_doubt(TECHNICIAN, old)
    assert calm.state().results[row].doubts == ()


def test_a_probe_never_calibrated_may_be_used_and_says_so_on_what_it_measures(calm):
    probe = ball(f"Raw {calm.job}")
    probes.put_on(TECHNICIAN, calm.arm, probe)
    row = calm.plan_plane("Side", (0, 0, 0), (0, 0, 1))
    calm.touch_plane(row)
    found = calm.state().results[row]
    assert found.state == "done"
    assert "never calibrated" in found.doubts[0]
    tip = found.feature.feature.uncertainty.share(Source("offset", calm.state().instrument.calibration_id), 2)
    assert tip > 0.4  # a drawing may be half a millimetre off
    with pytest.raises(InputError, match="is on"):
        probes.remove_probe(TECHNICIAN, probe)


def test_what_happens_to_an_arm_makes_a_check_due_and_a_history_can_be_thinned(calm):
    with transaction() as session:
        session.query(Calibration).filter_by(id=session.get(Instrument, calm.arm).calibration_id).update({"doubt": ""})
    trust.happened(calm.arm, "knock")
    with transaction() as session:
        found = trust.trust_in(session, session.get(Instrument, calm.arm))
    assert any("knocked" in why for why in found.due)
    with pytest.raises(InputError, match="in use"):
        probes.forget_calibration(TECHNICIAN, on_arm(calm).id)


def test_an_instrument_is_added_only_where_it_may_be_and_with_numbers_that_are_some(stack):
    form = {"name": "Far arm", "kind": "arm", "host": "10.1.2.3", "port": "7000"}
    for more, words in (
        ({"host": "10.1.2.3/admin"}, "no address"),
        ({"port": "99999"}, "no port"),
        ({"u_hit": "-1"}, "no such number"),
        ({"name": ""}, "needs a name"),
        ({"name": "x" * 81}, "needs a name"),
    ):
        with pytest.raises(InputError, match=words):
            instruments.add_from_form(TECHNICIAN, form | more)
    added = instruments.add_from_form(TECHNICIAN, form)
    with pytest.raises(InputError, match="already"):
        instruments.add_from_form(TECHNICIAN, form)  # a second one does not move the first
    instruments.correct(TECHNICIAN, added, form | {"name": "Near arm", "u_hit": "0.02"})
    with transaction() as session:
        assert session.get(Instrument, added).u_hit_mm == 0.02
    instruments.remove(TECHNICIAN, added)
    assert added not in {i.id for i in instruments.instruments()}
    with pytest.raises(InputError, match="was removed"):
        instruments.correct(TECHNICIAN, added, form)
    spec = instruments.spec_from_form("tracker", {"range": "5", "range_per_m": "1", "angle": "3"})
    assert spec["range_mm"] == pytest.approx(0.005)
    assert INSTRUMENT_KINDS["tracker"].u_hit(spec) == pytest.approx(0.009)
