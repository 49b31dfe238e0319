"""English names of what can be derived, by the registry's keys."""

from __future__ import annotations

SHAPES = {
    "apex": "Apex",
    "axis": "Axis",
    "bisector": "Bisector",
    "bisector_of_the_normals": "Bisector of the normals",
    "bisector_of_the_other_angle": "Bisector of the other angle",
    "bisector_of_the_wider_angle": "Bisector of the wider angle",
    "center": "Center",
    "circle_at_a_height": "Circle at a height",
    "circle_at_the_plane": "Circle at the plane",
    "circle_in_which_the_plane_cuts_it": "Circle in which the plane cuts it",
    "circle_of_a_diameter": "Circle of a diameter",
    "circle_through_the_centers": "Circle through the centers",
    "common_axis": "Common axis",
    "common_plane": "Common plane",
    "corner_of_the_three_planes": "Corner of the three planes",
    "foot_on_the_axis": "Foot on the axis",
    "foot_on_the_plane": "Foot on the plane",
    "hidden_point_beyond_the_first": "Hidden point, beyond the first by the offset",
    "hidden_point_beyond_the_second": "Hidden point, beyond the second by the offset",
    "line_in_which_they_meet": "Line in which they meet",
    "line_seen_on_the_plane": "Line seen on the plane",
    "line_through_the_center_square_to_it": "Line through the center, square to it",
    "line_through_the_centers": "Line through the centers",
    "middle_line": "Middle line",
    "middle_of_the_centers": "Middle of the centers",
    "middle_plane": "Middle plane",
    "nearest_place_of_the_two": "Nearest place of the two",
    "offset_outline": "Offset outline",
    "offset_plane": "Offset plane",
    "outline_on_the_plane": "Outline on the plane",
    "parallel_line_through_it": "Parallel line through it",
    "parallel_plane_through_it": "Parallel plane through it",
    "perpendicular_line_through_it": "Perpendicular line through it",
    "plane_half_way_between_them": "Plane half way between them",
    "plane_it_lies_in": "Plane it lies in",
    "plane_through_both": "Plane through both",
    "plane_through_it_across_the_axis": "Plane through it, across the axis",
    "plane_through_it_square_to_the_plane": "Plane through it, square to the plane",
    "plane_through_the_centers": "Plane through the centers",
    "point_nearest_to_the_axes": "Point nearest to the axes",
    "sphere_through_the_centers": "Sphere through the centers",
    "where_it_goes_through": "Where it goes through",
}
NUMBERS = {
    "along_x": "Along X",
    "along_y": "Along Y",
    "along_z": "Along Z",
    "angle": "Angle",
    "angle_seen_along_x": "Angle seen along X",
    "angle_seen_along_y": "Angle seen along Y",
    "angle_seen_along_z": "Angle seen along Z",
    "diameter": "Diameter",
    "diameter_at_a_height": "Diameter at a height",
    "diameter_at_the_plane": "Diameter at the plane",
    "diameter_of_the_bolt_circle": "Diameter of the bolt circle",
    "diameter_of_the_ring": "Diameter of the ring",
    "diameter_of_the_tube": "Diameter of the tube",
    "distance": "Distance",
    "distance_of_the_middles": "Distance of the middles",
    "full_angle": "Full angle",
    "greatest_distance": "Greatest distance",
    "greatest_distance_of_the_edges": "Greatest distance of the edges",
    "in_the_plane_xy": "In the plane XY",
    "in_the_plane_xz": "In the plane XZ",
    "in_the_plane_yz": "In the plane YZ",
    "least_distance": "Least distance",
    "least_distance_of_the_axes": "Least distance of the axes",
    "least_distance_of_the_edges": "Least distance of the edges",
    "length": "Length",
    "long_diameter": "Long diameter",
    "out_of_parallel": "Out of parallel",
    "out_of_parallel_over_the_reach": "Out of parallel, over the reach",
    "perpendicular_distance": "Perpendicular distance",
    "short_diameter": "Short diameter",
    "supplement": "Supplement",
    "width": "Width",
}
DERIVATIONS = SHAPES | NUMBERS


def derivation_words(key: str) -> str:
    """The name of a derivation in words."""
    return DERIVATIONS.get(key, key.replace("_", " ").capitalize())


def choices_of(names: dict[str, str]) -> list[tuple[str, str]]:
    """Keys and words, by the words."""
    return sorted(names.items(), key=lambda pair: pair[1])
