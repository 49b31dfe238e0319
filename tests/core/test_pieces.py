"""Many pieces together: run charts, trends, capability; and a recipe as it stands in the plan of many."""

import json

import numpy as np
import pytest
from block import Bench
from every_kind import rows_of_every_kind
from scipy import stats

from zipplumb.core.errors import InputError
from zipplumb.core.pieces.capability import ENOUGH, FEWEST, capability
from zipplumb.core.pieces.run import COV_OF_RANGES, D2, VAR_OF_RANGE, freedom_of_ranges, run_of
from zipplumb.core.sheet import KINDS, needs_of, recipe_from_dict
from zipplumb.core.sheet.planned import as_planned, found_here

FURTHER = 10_000


@pytest.fixture(scope="module")
def every_kind():
    bench = Bench()
    rows = rows_of_every_kind(bench)
    recipes = {row.id: row.recipe for row in bench.rows}
    return {key: recipes[row] for key, row in rows.items()}


@pytest.mark.parametrize("key", sorted(KINDS))
def test_a_recipe_of_any_kind_stands_in_a_plan(every_kind, key):
    recipe, kind = every_kind[key], KINDS[key]
    raw = as_planned(recipe, lambda needed: None if needed.what == "station" else needed.id + FURTHER)
    planned = recipe_from_dict(raw)
    assert {(n.what, n.id) for n in needs_of(planned)} == {(n.what, n.id + FURTHER) for n in needs_of(recipe)}
    back = recipe_from_dict(as_planned(planned, lambda needed: needed.id - FURTHER))
    without = recipe.model_dump(mode="json") | {n: kind.model_fields[n].default for n in found_here(kind)}
    assert json.loads(back.model_dump_json()) == json.loads(json.dumps(without))


def test_what_was_found_of_one_piece_is_not_in_the_plan(every_kind):
    answered = every_kind["plane"].model_copy(update={"settled_air": 1, "hits_of": (7,), "scans": (9,)})
    raw = as_planned(answered, lambda needed: needed.id)
    assert not {"settled_air", "hits_of", "scans", "seen_at"} & raw.keys()
    section = recipe_from_dict({**every_kind["scan_section"].model_dump(mode="json"), "in_world": True})
    assert section.of_one_piece
    assert not every_kind["scan_section"].of_one_piece


def test_what_a_row_cannot_do_without_is_told(every_kind):
    raw = as_planned(every_kind["hole_table"], lambda needed: None)
    with pytest.raises(InputError):
        recipe_from_dict(raw)


def test_moving_ranges_are_as_published():
    """d2 of two is 1.128, d3 0.853: ISO 7870-2 and every handbook's table of control chart constants. The variance of the
    estimate tends to 0.826 / n: Cryer and Ryan 1990."""
    assert pytest.approx(1.128, abs=5e-4) == D2
    assert np.sqrt(VAR_OF_RANGE) == pytest.approx(0.853, abs=5e-4)
    assert pytest.approx(0.8264, abs=5e-4) == (VAR_OF_RANGE + 2 * COV_OF_RANGES) / D2**2
    drawn = np.abs(np.diff(np.random.default_rng(3).normal(size=(40_000, 30)), axis=1)).mean(axis=1) / D2
    seen = 1 / (2 * (drawn.std() / drawn.mean()) ** 2)  # of 40,000 draws, known to 1.5 %
    assert freedom_of_ranges(30) == pytest.approx(seen, rel=0.03)


def test_indices_are_those_of_the_quantiles():
    """ISO 22514-2: P = (U − L) / (X99.865 − X0.135), Pk by the quantiles to either side of the median; scipy's quantiles."""
    values = np.random.default_rng(5).normal(10.01, 0.02, 40)
    found = capability(run_of(values), 9.9, 10.1)
    process = stats.norm(values.mean(), values.std(ddof=1))
    low, middle, high = process.ppf([0.00135, 0.5, 0.99865])
    assert found.p.value == pytest.approx(0.2 / (high - low), rel=1e-4)  # 0.135 % is three standard deviations, rounded
    assert found.pk.value == pytest.approx(min((10.1 - middle) / (high - middle), (middle - 9.9) / (middle - low)), rel=1e-4)
    assert found.share_out == pytest.approx(process.cdf(9.9) + process.sf(10.1), rel=1e-9)
    assert found.ck is not None
    assert not found.says_little


def test_a_worked_example():
    """Closed form: mean 5, s = 1, limits 2 and 8: all indices that rest on s are 1; the bounds of P for n = 30 are those of the
    chi-square table with 29 degrees of freedom, 16.047 and 45.722."""
    values = stats.norm.ppf((np.arange(1, 31) - 0.5) / 30)
    values = 5 + (values - values.mean()) / values.std(ddof=1)
    found = capability(run_of(np.random.default_rng(1).permutation(values)), 2.0, 8.0)
    assert found.p.value == pytest.approx(1)
    assert found.pk.value == pytest.approx(1)
    assert (found.p.low, found.p.high) == pytest.approx((np.sqrt(16.047 / 29), np.sqrt(45.722 / 29)), rel=1e-4)


def test_bounds_hold_as_often_as_they_say():
    """2,000 drawn processes with Pk = 1.2: Bissell's bounds hold it in 95 % ± 2 (five standard deviations of the count are
    2.4 %); those of C by moving ranges too."""
    random, within, within_c = np.random.default_rng(11), 0, 0
    runs = [run_of(random.normal(0.4, 1.0, 30)) for _ in range(2000)]
    found = [capability(run, -4.0, 4.0) for run in runs]
    said = [each for each in found if each.pk is not None]
    assert len(said) > 0.98 * len(found)
    within = np.mean([each.pk.low <= 1.2 <= each.pk.high for each in said])
    stable = [each for each in said if each.c is not None]
    within_c = np.mean([each.c.low <= 4 / 3 <= each.c.high for each in stable])
    assert within == pytest.approx(0.95, abs=0.024)
    assert within_c == pytest.approx(0.95, abs=0.03)  # of those that look stable


def test_what_cannot_be_below_zero_is_judged_by_its_logarithms():
    """The share out is that of the log-normal distribution, by scipy."""
    values = np.random.default_rng(8).lognormal(np.log(0.05), 0.3, 60)
    found = capability(run_of(values), None, 0.12, zero_bounded=True)
    logs = np.log(values)
    process = stats.lognorm(logs.std(ddof=1), scale=np.exp(logs.mean()))
    assert found.by_logarithms
    assert found.p is None
    assert found.share_out == pytest.approx(process.sf(0.12), rel=1e-9)
    assert found.pk.value == pytest.approx(stats.norm.isf(found.share_out) / 3)
    assert capability(run_of([0.0, *values]), None, 0.12, zero_bounded=True).why_not == "at zero"


@pytest.mark.parametrize(
    ("values", "limits", "why"),
    [
        (range(FEWEST - 1), (-1, 1), "few"),
        (np.full(30, 2.0), (1, 3), "no spread"),
        (np.random.default_rng(2).exponential(1, 60), (-5, 5), "not normal"),
        (range(30), (None, None), "no limits"),
    ],
)
def test_no_index_where_it_would_mislead(values, limits, why):
    found = capability(run_of(list(values)), *limits)
    assert found.why_not == why
    assert found.pk is None


def test_a_process_that_moves_has_no_capability():
    moving = np.random.default_rng(4).normal(0, 1, 40) + np.linspace(-2, 2, 40)
    found = capability(run_of(moving), -9, 9)
    assert found.pk is not None
    assert found.why_no_c == "not stable"
    assert found.ck is None
    assert capability(run_of(moving[: ENOUGH - 1]), -9, 9).says_little


def test_a_trend_is_one_that_chance_does_not_explain():
    random = np.random.default_rng(6)
    rising = run_of(0.01 * np.arange(20) + random.normal(0, 0.01, 20))
    assert rising.trend.proven
    assert rising.trend.per_piece == pytest.approx(0.01, rel=0.3)
    by_chance = [run_of(random.normal(size=12)).trend.proven for _ in range(1000)]
    assert np.mean(by_chance) < 0.03  # at 1 %: six standard deviations of the count
    assert run_of([1, 2, 3]).trend is None


def test_one_that_stands_out_is_named():
    values = np.random.default_rng(9).normal(0, 1, 30)
    values[17] += 9
    assert 17 in run_of(values).control.beyond
    shifted = np.concatenate([np.tile([0.9, 1.1], 6), np.tile([-0.9, -1.1], 6)])
    assert len(run_of(shifted).control.in_runs) == 24
    with pytest.raises(ValueError):
        run_of([1.0, float("nan")])
