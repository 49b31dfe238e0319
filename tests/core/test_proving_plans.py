"""Plans that prove: fewer hits than plans that treat all rows alike, never fewer than practice, honest of what cannot be."""

import numpy as np
import pytest
from block import TIP
from proving_draws import draw_plan

from zipplumb.core.sheet.proving.planning import MOST_OF_A_ROW, plan_that_proves, proofs_of, wanted_of
from zipplumb.core.sheet.proving.rehearsal import RehearsedInstrument, rehearse
from zipplumb.core.sheet.results import Characteristic

STAND, SHARE = np.zeros(3), 0.5
INSTRUMENT = RehearsedInstrument(0.01, None, TIP)


def rehearsed(sheet, instrument=INSTRUMENT):
    return lambda touched: rehearse(sheet, touched, STAND, instrument)


def evenly(places, count):
    return places.some(np.linspace(0, len(places.centers) - 1, count).round().astype(int))


def alike(sheet, places, least, rows):
    """The hits of a uniform plan, as plans are made by hand: on every row as many as on every other (but as practice asks at
    least), evenly over its surface, and as few as prove these rows; None where no such plan does. More of them prove more."""

    def hits(count):
        many = {row: max(count, len(least[row].centers)) for row in places}
        even = {
            row: places[row].some(np.linspace(0, len(places[row].centers) - 1, n).round().astype(int))
            for row, n in many.items()
        }
        proofs = proofs_of(rehearsed(sheet)(even), SHARE)
        return sum(many.values()) if all(proofs[row].proven for row in rows) else None

    low, high = 0, MOST_OF_A_ROW
    if hits(high) is None:
        return None
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if hits(middle) is not None else (middle, high)
    return hits(high)


def test_it_takes_a_third_fewer_hits_than_uniform_plans_and_never_fewer_than_practice():
    random, ratios = np.random.default_rng(1), []
    for _ in range(16):
        sheet, places, least = draw_plan(random)
        plan = plan_that_proves(rehearsed(sheet), places, least, STAND, SHARE)
        assert all(len(plan.touched[row].centers) >= len(each.centers) for row, each in least.items())
        proven = [row for row, proof in plan.proofs.items() if proof.proven]
        again = proofs_of(rehearsed(sheet)(plan.touched), SHARE)
        assert all(again[row].wanted >= again[row].U for row in proven)  # as the whole sheet says
        uniform, fewest = alike(sheet, places, least, proven), sum(len(each.centers) for each in least.values())
        if uniform is not None and plan.hits > fewest:
            ratios.append(plan.hits / uniform)
    assert len(ratios) > 10
    assert np.median(ratios) < 2 / 3


def test_what_cannot_be_proven_costs_no_hits_and_is_named():
    sheet, places, least = draw_plan(np.random.default_rng(5))
    coarse = RehearsedInstrument(0.01, None, TIP, 0.05)  # its tip is known badly
    told = []
    plan = plan_that_proves(rehearsed(sheet, coarse), places, least, STAND, 0.75, told.append)
    hopeless = [proof for proof in plan.proofs.values() if not proof.proven]
    assert hopeless and {proof.source.what for proof in hopeless} <= {"tip", "hits"}
    assert any(proof.source.what == "tip" for proof in hopeless)
    assert told == sorted(told) and told[-1] == 1.0
    assert plan.hits < 2 * sum(len(each.centers) for each in least.values())


@pytest.mark.parametrize(
    ("lower", "upper", "share", "wanted"),
    [
        (-0.1, 0.1, 0.75, 0.025),
        (0.0, 0.025, 0.0, 0.0125),
        (None, 0.05, 0.75, 0.0125),
        (-0.2, None, 0.5, 0.1),
        (None, None, 0.5, None),
    ],
)
def test_how_uncertain_it_may_be_follows_from_the_limits(lower, upper, share, wanted):
    found = wanted_of(Characteristic("x", "mm", lower=lower, upper=upper), share)
    assert found == (None if wanted is None else pytest.approx(wanted))
