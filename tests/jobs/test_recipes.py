"""A stored recipe is changed as its model: what the kind does not have, or refuses, changes nothing."""

import pytest

from zipplumb.core.errors import InputError
from zipplumb.core.sheet import recipe_from_dict
from zipplumb.jobs.state.recipes import changed, recipe_of, rewrite
from zipplumb.store.models import Row

STORED = recipe_from_dict({"kind": "plane", "name": "Top", "hits": 6}).model_dump(mode="json")


def test_some_fields_are_changed_and_the_earlier_recipe_is_told():
    row = Row(recipe=STORED)
    assert changed(row, hits=9, datum="A") == STORED
    assert row.recipe == {**STORED, "hits": 9, "datum": "A"}
    assert recipe_of(row).datum_letter == "A"
    assert rewrite(row, recipe_from_dict(STORED))["hits"] == 9
    assert row.recipe == STORED


@pytest.mark.parametrize(
    ("field", "value", "words"), [("hits", -1, "number of hits"), ("tilt", 1, "tilt"), ("name", "", "name")]
)
def test_what_does_not_hold_is_refused_by_its_name_and_the_row_stays(field, value, words):
    row = Row(recipe=STORED)
    with pytest.raises(InputError, match=words):
        changed(row, **{field: value})
    assert row.recipe == STORED
