"""Tolerances in a STEP document, read and written with OCCT. Only child processes import this module."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher, Sequence_TDF_Label
from OCP.TCollection import TCollection_HAsciiString
from OCP.TDF import TDF_Label
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS_Shape
from OCP.XCAFDimTolObjects import (
    XCAFDimTolObjects_DatumObject,
    XCAFDimTolObjects_DimensionObject,
    XCAFDimTolObjects_GeomToleranceObject,
)
from OCP.XCAFDimTolObjects import XCAFDimTolObjects_DatumSingleModif as DatumModifier
from OCP.XCAFDimTolObjects import XCAFDimTolObjects_DatumTargetType as DatumTarget
from OCP.XCAFDimTolObjects import XCAFDimTolObjects_DimensionType as Dimension
from OCP.XCAFDimTolObjects import XCAFDimTolObjects_GeomToleranceMatReqModif as Material
from OCP.XCAFDimTolObjects import XCAFDimTolObjects_GeomToleranceType as Type
from OCP.XCAFDimTolObjects import XCAFDimTolObjects_GeomToleranceTypeValue as Shape
from OCP.XCAFDoc import (
    XCAFDoc_Datum,
    XCAFDoc_Dimension,
    XCAFDoc_DimTolTool,
    XCAFDoc_DocumentTool,
    XCAFDoc_GeomTolerance,
    XCAFDoc_ShapeTool,
)

from ..callouts import Callout, Callouts, Lettered, Sized, TargetPlace
from .bodies import each

KINDS = {
    Type.XCAFDimTolObjects_GeomToleranceType_Angularity: "angularity",
    Type.XCAFDimTolObjects_GeomToleranceType_CircularRunout: "circular_runout",
    Type.XCAFDimTolObjects_GeomToleranceType_CircularityOrRoundness: "roundness",
    Type.XCAFDimTolObjects_GeomToleranceType_Coaxiality: "coaxiality",
    Type.XCAFDimTolObjects_GeomToleranceType_Concentricity: "coaxiality",
    Type.XCAFDimTolObjects_GeomToleranceType_Cylindricity: "cylindricity",
    Type.XCAFDimTolObjects_GeomToleranceType_Flatness: "flatness",
    Type.XCAFDimTolObjects_GeomToleranceType_Parallelism: "parallelism",
    Type.XCAFDimTolObjects_GeomToleranceType_Perpendicularity: "perpendicularity",
    Type.XCAFDimTolObjects_GeomToleranceType_Position: "position",
    Type.XCAFDimTolObjects_GeomToleranceType_ProfileOfLine: "line_profile",
    Type.XCAFDimTolObjects_GeomToleranceType_ProfileOfSurface: "surface_profile",
    Type.XCAFDimTolObjects_GeomToleranceType_Straightness: "straightness",
    Type.XCAFDimTolObjects_GeomToleranceType_Symmetry: "symmetry",
    Type.XCAFDimTolObjects_GeomToleranceType_TotalRunout: "total_runout",
}
TYPES = {kind: found for found, kind in reversed(KINDS.items())}
CONDITIONS = {
    Material.XCAFDimTolObjects_GeomToleranceMatReqModif_None: "none",
    Material.XCAFDimTolObjects_GeomToleranceMatReqModif_M: "maximum",
    Material.XCAFDimTolObjects_GeomToleranceMatReqModif_L: "least",
}
MATERIALS = {condition: found for found, condition in CONDITIONS.items()}
MAXIMUM = DatumModifier.XCAFDimTolObjects_DatumSingleModif_MaximumMaterialRequirement
LEAST = DatumModifier.XCAFDimTolObjects_DatumSingleModif_LeastMaterialRequirement
DIAMETER, RADIUS = (
    Dimension.XCAFDimTolObjects_DimensionType_Size_Diameter,
    Dimension.XCAFDimTolObjects_DimensionType_Size_Radius,
)
FLAT, ROUND = Shape.XCAFDimTolObjects_GeomToleranceTypeValue_None, Shape.XCAFDimTolObjects_GeomToleranceTypeValue_Diameter
Bodies = Sequence[tuple[str, TopoDS_Shape]]


class _Faces:
    """Numbers of faces by their shapes, wherever an instance of them lies."""

    def __init__(self, bodies: Bodies):
        self._known = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
        self._numbers: dict[int, list[int]] = {}
        number = 0
        for _, shape in bodies:
            for face in each(shape, TopAbs_ShapeEnum.TopAbs_FACE):
                at = self._known.Add(face.Located(TopLoc_Location()))
                self._numbers.setdefault(at, []).append(number)
                number += 1

    def of(self, labels: Sequence_TDF_Label) -> tuple[int, ...]:
        """The items that labels name, or have under them."""
        found: list[int] = []
        for label in _labels(labels):
            for face in each(XCAFDoc_ShapeTool.GetShape_s(label), TopAbs_ShapeEnum.TopAbs_FACE):
                found += self._numbers.get(self._known.FindIndex(face.Located(TopLoc_Location())), [])
        return tuple(dict.fromkeys(found))


def _labels(sequence: Sequence_TDF_Label) -> Iterator[TDF_Label]:
    for k in range(1, sequence.Length() + 1):
        yield sequence.Value(k)


def _referred(label: TDF_Label) -> Sequence_TDF_Label:
    first, second = Sequence_TDF_Label(), Sequence_TDF_Label()
    XCAFDoc_DimTolTool.GetRefShapeLabel_s(label, first, second)
    for other in _labels(second):
        first.Append(other)
    return first


def _text(found) -> str:
    return found.ToCString().strip() if found is not None else ""


# the labels below are known to hold these: ``Set_s`` gives what is there

# ---- reading -----------------------------------------------------------------------------------


def callouts_of(document: TDocStd_Document, bodies: Bodies) -> Callouts:
    """Tolerances of a read document; those without a counterpart here are listed in ``left``.

    A fault in them does not take the model with it.
    """
    try:
        return _callouts_of(document, bodies)
    except Exception as error:
        return Callouts(left=(f"The tolerances that it carries could not be read ({type(error).__name__}).",))


def _callouts_of(document: TDocStd_Document, bodies: Bodies) -> Callouts:
    tool = XCAFDoc_DocumentTool.DimTolTool_s(document.Main())
    faces, left = _Faces(bodies), list[str]()
    letters: dict[str, tuple[int, ...]] = {}
    targets: dict[str, TargetPlace] = {}
    for label in _all(tool.GetDatumLabels):
        datum = XCAFDoc_Datum.Set_s(label).GetObject()
        letter = _text(datum.GetName()) if datum is not None else ""
        if datum is not None and datum.IsDatumTarget():
            target = _target(letter, datum, faces.of(_referred(label)))
            targets.setdefault(target.name, target)  # there is one for each tolerance that is told from it
        elif letter:
            letters[letter] = tuple(dict.fromkeys((*letters.get(letter, ()), *faces.of(_referred(label)))))
    tolerances = [found for label in _all(tool.GetGeomToleranceLabels) if (found := _tolerance(label, faces, left))]
    sizes = [size for label in _all(tool.GetDimensionLabels) if (size := _size(label, faces, left))]
    datums = tuple(Lettered(letter, held) for letter, held in sorted(letters.items()) if held)
    placed = tuple(target for _, target in sorted(targets.items()))
    nowhere = letters.keys() - {target.letter for target in placed} - {datum.letter for datum in datums}
    left += [f"Datum {letter} is on no face that is here." for letter in sorted(nowhere)]
    return Callouts(tuple(tolerances), datums, tuple(sizes), tuple(left), placed)


def _target(letter: str, datum: XCAFDimTolObjects_DatumObject, on: tuple[int, ...]) -> TargetPlace:
    axis = datum.GetDatumTargetAxis()
    at, way = axis.Location(), axis.Direction()
    place, normal = (at.X(), at.Y(), at.Z()), (way.X(), way.Y(), way.Z())
    return TargetPlace(letter, datum.GetDatumTargetNumber(), place, normal, on)


def _all(ask) -> Iterator[TDF_Label]:
    labels = Sequence_TDF_Label()
    ask(labels)
    return _labels(labels)


def _tolerance(label: TDF_Label, faces: _Faces, left: list[str]) -> Callout | None:
    told = XCAFDoc_GeomTolerance.Set_s(label).GetObject()
    if told is None:
        return None
    kind, held = KINDS.get(told.GetType()), faces.of(_referred(label))
    name = _text(told.GetSemanticName())
    called = f"{(kind or 'A tolerance').replace('_', ' ').capitalize()} {told.GetValue():g}{f' ({name})' if name else ''}"
    if kind is None or not held or not told.GetValue() > 0:
        why = (
            "is of no kind that is known here" if kind is None else "is on no face that is here" if not held else "has no width"
        )
        left.append(f"{called}: it {why}.")
        return None
    if told.GetZoneModifier().value or told.GetModifiers().Length():
        left.append(f"{called}: its modifiers are not taken over, the tolerance is.")
    order: dict[int, tuple[list[str], list[str]]] = {}
    datums = Sequence_TDF_Label()
    XCAFDoc_DimTolTool.GetDatumWithObjectOfTolerLabels_s(label, datums)
    for at in _labels(datums):
        datum = XCAFDoc_Datum.Set_s(at).GetObject()
        letters, boundaries = order.setdefault(datum.GetPosition(), ([], []))
        if _text(datum.GetName()) in letters:  # another of its targets
            continue
        letters.append(_text(datum.GetName()))
        modifiers = datum.GetModifiers()
        found = {modifiers.Value(k) for k in range(1, modifiers.Length() + 1)}
        boundaries.append("maximum" if MAXIMUM in found else "least" if LEAST in found else "none")
        if found - {MAXIMUM, LEAST}:
            left.append(f"{called}: modifiers of datum {letters[-1]} are not taken over, the tolerance is.")
    in_order = [order[k] for k in sorted(order)]
    return Callout(
        kind, float(told.GetValue()), held, tuple(tuple(letters) for letters, _ in in_order),
        CONDITIONS.get(told.GetMaterialRequirementModifier(), "none"), tuple(b[0] for _, b in in_order), name,
        told.GetTypeOfValue() != FLAT,
    )  # fmt: skip


def _size(label: TDF_Label, faces: _Faces, left: list[str]) -> Sized | None:
    told = XCAFDoc_Dimension.Set_s(label).GetObject()
    if told is None:
        return None
    held, share = faces.of(_referred(label)), {DIAMETER: 1.0, RADIUS: 2.0}.get(told.GetType())
    if share is None or not held:
        left.append(f"A dimension of {told.GetValue():g} is not taken over.")
        return None
    if told.IsDimWithRange():
        middle = (told.GetLowerBound() + told.GetUpperBound()) / 2
        half = share * (told.GetUpperBound() - told.GetLowerBound()) / 2
        return Sized(held, share * middle, -half, half)
    if told.IsDimWithPlusMinusTolerance():
        return Sized(held, *(share * v for v in (told.GetValue(), -told.GetLowerTolValue(), told.GetUpperTolValue())))
    return None


# ---- writing -----------------------------------------------------------------------------------


def put_callouts(document: TDocStd_Document, bodies: Bodies, callouts: Callouts) -> None:
    """Put tolerances on the faces of a document's bodies; the library writes no names of them."""
    tool = XCAFDoc_DocumentTool.DimTolTool_s(document.Main())
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    faces = [face for _, shape in bodies for face in each(shape, TopAbs_ShapeEnum.TopAbs_FACE)]

    def labels_of(numbers: Sequence[int]) -> Sequence_TDF_Label:
        found = Sequence_TDF_Label()
        for number in numbers:
            label, body = TDF_Label(), _body(shapes, faces[number])
            if not shapes.FindSubShape(body, faces[number], label):
                label = shapes.AddSubShape(body, faces[number])
            found.Append(label)
        return found

    held = {datum.letter: datum.faces for datum in callouts.datums}
    targets: dict[str, list[TargetPlace]] = {}
    for target in callouts.targets:
        targets.setdefault(target.letter, []).append(target)
    for sized in callouts.sizes:
        label = tool.AddDimension()
        tool.SetDimension(labels_of(sized.faces), Sequence_TDF_Label(), label)
        told = XCAFDimTolObjects_DimensionObject()
        told.SetType(DIAMETER)
        told.SetValue(sized.diameter_mm)
        told.SetUpperTolValue(sized.upper_mm)
        told.SetLowerTolValue(-sized.lower_mm)  # the library counts it downward
        XCAFDoc_Dimension.Set_s(label).SetObject(told)
    for callout in callouts.tolerances:
        label = tool.AddGeomTolerance()
        tool.SetGeomTolerance(labels_of(callout.faces), label)
        told = XCAFDimTolObjects_GeomToleranceObject()
        told.SetType(TYPES[callout.kind])
        told.SetValue(callout.zone_mm)
        told.SetMaterialRequirementModifier(MATERIALS[callout.condition])
        told.SetTypeOfValue(ROUND if callout.round else FLAT)
        XCAFDoc_GeomTolerance.Set_s(label).SetObject(told)
        boundaries = callout.boundaries or ("none",) * len(callout.datums)
        for position, (letters, boundary) in enumerate(zip(callout.datums, boundaries, strict=True), start=1):
            for letter in letters:
                for one in targets.get(letter) or (None,):
                    on = labels_of(one.faces if one else held.get(letter, ()))
                    _put_datum(tool, label, letter, position, boundary, on, one)
    used = {letter for c in callouts.tolerances for group in c.datums for letter in group}
    for letter in held.keys() - used:
        _put_datum(tool, None, letter, 1, "none", labels_of(held[letter]), None)


def _put_datum(
    tool,
    tolerance: TDF_Label | None,
    letter: str,
    position: int,
    boundary: str,
    on: Sequence_TDF_Label,
    target: TargetPlace | None,
) -> None:
    label = tool.AddDatum()
    tool.SetDatum(on, label)
    told = XCAFDimTolObjects_DatumObject()
    told.SetName(TCollection_HAsciiString(letter))
    told.SetPosition(position)
    if target is not None:
        told.IsDatumTarget(True)
        told.SetDatumTargetType(DatumTarget.XCAFDimTolObjects_DatumTargetType_Point)
        told.SetDatumTargetNumber(target.number)
        told.SetDatumTargetAxis(gp_Ax2(gp_Pnt(*target.at), gp_Dir(*target.normal)))
    if boundary != "none":
        told.AddModifier(MAXIMUM if boundary == "maximum" else LEAST)
    XCAFDoc_Datum.Set_s(label).SetObject(told)
    if tolerance is not None:
        tool.SetDatumToGeomTol(label, tolerance)


def _body(shapes: XCAFDoc_ShapeTool, face: TopoDS_Shape) -> TDF_Label:
    """The label of the simple shape that has a face."""
    for label in _all(shapes.GetShapes):
        if XCAFDoc_ShapeTool.IsSimpleShape_s(label):
            there = each(XCAFDoc_ShapeTool.GetShape_s(label), TopAbs_ShapeEnum.TopAbs_FACE)
            if any(one.IsPartner(face) for one in there):
                return label
    raise LookupError("a face of no body")
