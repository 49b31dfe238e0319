"""How near the value of a walk has to come to what only the stand-in knows.

One value lies outside its U (k = 2) once in 22 with nothing amiss, three times u once in 370: of the hundred that the walks
compare, some would in every run. Beyond 2 U (k = 4, normal distribution) lies one of 15,800. Whether U is as large as it
ought to be is counted in seeded runs, by tests/outside/test_drawn_part.py.
"""

AT_MOST = 2  # U


def must_be_true(told, true):
    """``told``: a characteristic, with its U; ``true``: in its unit."""
    assert abs(told.actual - true) < AT_MOST * told.U, (told.key, told.of, told.actual, true, told.U)
