"""Integer codes of the shapes in compiled loops."""

CODES = {
    "plane": 0, "circle": 1, "cylinder": 1, "sphere": 2, "cone": 3, "torus": 4, "ellipse": 5, "round_slot": 6, "square_slot": 7,
}  # fmt: skip
PLANE, TUBE, SPHERE, CONE, TORUS, ELLIPSE, ROUND_SLOT = range(7)
