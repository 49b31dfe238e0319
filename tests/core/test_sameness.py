"""A mapping of which a few values are replaced again and again is as a dictionary that is copied each time."""

from hypothesis import given
from hypothesis import strategies as st

from zipplumb.core.sameness import LAYER, Layered

CHANGES = st.lists(st.dictionaries(st.integers(0, 40), st.integers().map(lambda n: [n]), max_size=6), max_size=30)


@given(CHANGES, st.data())
def test_it_is_as_a_dictionary_and_knows_what_differs(changes, data):
    versions, dictionaries = [Layered({k: [k] for k in range(30)})], [{}]
    dictionaries[0].update(versions[0])
    for new in changes:
        versions.append(versions[-1].replaced(new))
        dictionaries.append({**dictionaries[-1], **new})
    for version, same in zip(versions, dictionaries, strict=True):
        assert list(version.items()) == list(same.items())
        assert len(version) == len(same) and 1000 not in version and version.get(1000) is None
    one, other = (data.draw(st.integers(0, len(versions) - 1)) for _ in range(2))
    nothing = object()
    differ = {k for k in dictionaries[one] | dictionaries[other]
              if dictionaries[one].get(k, nothing) is not dictionaries[other].get(k, nothing)}  # fmt: skip
    assert sorted(versions[one].differing(versions[other])) == sorted(differ)


def test_what_was_replaced_does_not_pile_up():
    version = Layered({k: [k] for k in range(1000)})
    for k in range(1000):
        version = version.replaced({k: [k]})
        assert len(version._over) <= LAYER
