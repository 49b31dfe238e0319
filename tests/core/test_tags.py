"""Tags stand beside one another, off what they tell of, and their lines do not cross."""

import itertools

import numpy as np
import pytest

from zipplumb.core.pictures.tags import ARRANGED, CLEAR, lay_out, margins

WIDE, HIGH = 1280.0, 800.0


def drawn(seed, count=40):
    """Places somewhere on a part, also close together, and tags of different lengths."""
    rng = np.random.default_rng(seed)
    sizes = np.column_stack([rng.uniform(50, 110, count), np.full(count, 22.0)])
    side, above = margins(sizes, "around")
    low, high = np.array([side, above]), np.array([WIDE - side, HIGH - above])
    places = rng.uniform(low, high, (count, 2))
    heap = rng.integers(0, count, count // 3)
    places[heap] = np.clip(rng.uniform(low, high) + rng.normal(0, 8, (len(heap), 2)), low, high)
    return places, sizes


def crosses(a, b, c, d):
    def side(p, q, r):
        return np.sign((q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0]))

    return side(a, b, c) * side(a, b, d) < 0 and side(c, d, a) * side(c, d, b) < 0


@pytest.mark.parametrize("part", range(4))
def test_forty_tags_overlap_nothing_stay_inside_and_their_lines_do_not_cross(part):
    """200 drawn arrangements in all."""
    for seed in range(50 * part, 50 * part + 50):
        places, sizes = drawn(seed)
        laid = lay_out(places, sizes, (WIDE, HIGH))
        assert len(laid.which) == len(places)
        low, high = laid.boxes[:, :2], laid.boxes[:, :2] + laid.boxes[:, 2:]
        assert (low >= 0).all()
        assert (high <= [WIDE, HIGH]).all()
        meets = ((low[:, None] < high[None]) & (high[:, None] > low[None])).all(axis=2)
        assert np.count_nonzero(meets) == len(places), seed
        over = ((places[None] > low[:, None] - CLEAR) & (places[None] < high[:, None] + CLEAR)).all(axis=2)
        assert not over.any(), seed
        lines = list(zip(places[laid.which], laid.ports, strict=True))
        assert not any(crosses(*first, *second) for first, second in itertools.combinations(lines, 2)), seed
        through = [
            np.any(((low < p + f * (q - p)) & (high > p + f * (q - p))).all(axis=1))
            for p, q in lines for f in (0.25, 0.5, 0.75, 0.95)
        ]  # fmt: skip
        assert not any(through), seed


@pytest.mark.parametrize("arranged", ARRANGED)
def test_they_stand_where_they_are_wanted(arranged):
    places, sizes = drawn(1, 16)
    laid = lay_out(places, sizes, (WIDE, HIGH), arranged)
    at_side = (laid.boxes[:, 0] < 120) | (laid.boxes[:, 0] + laid.boxes[:, 2] > WIDE - 120)
    at_end = (laid.boxes[:, 1] < 30) | (laid.boxes[:, 1] > HIGH - 60)
    assert {"columns": at_side.all(), "rows": at_end.all(), "around": (at_side | at_end).all()}[arranged]


def test_one_that_was_put_somewhere_stays_and_the_others_make_room():
    places, sizes = drawn(2)
    first = lay_out(places, sizes, (WIDE, HIGH))
    where = {3: (float(first.boxes[0, 0]) + 9, float(first.boxes[0, 1]) + 5), 4: (5_000.0, -50.0)}
    laid = lay_out(places, sizes, (WIDE, HIGH), moved=where)
    boxes = dict(zip(laid.which.tolist(), laid.boxes.tolist(), strict=True))
    assert boxes[3][:2] == list(where[3])
    assert boxes[4][:2] == [WIDE - sizes[4, 0], 0]
    low, high = laid.boxes[:, :2], laid.boxes[:, :2] + laid.boxes[:, 2:]
    meets = ((low[:, None] < high[None]) & (high[:, None] > low[None])).all(axis=2)
    assert np.count_nonzero(meets) == len(places)


def test_where_there_is_no_room_the_last_are_left_out_and_told():
    places, sizes = drawn(3, 300)
    laid = lay_out(places, sizes, (WIDE, HIGH))
    assert len(laid.left_out) > 100
    assert np.array_equal(np.sort(np.r_[laid.which, laid.left_out]), np.arange(300))
    assert laid.which.max() < laid.left_out.min()


def test_none_at_all_is_an_empty_picture():
    laid = lay_out(np.empty((0, 2)), np.empty((0, 2)), (WIDE, HIGH))
    assert laid.boxes.shape == (0, 4)
    assert margins(np.empty((0, 2)), "around") == (0, 0)
