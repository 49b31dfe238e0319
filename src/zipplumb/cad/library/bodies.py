"""The bodies of a read document, with their names and places."""

from __future__ import annotations

from OCP.OCP.collections import Sequence_TDF_Label
from OCP.TDataStd import TDataStd_Name
from OCP.TDF import TDF_Label
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS_Shape
from OCP.XCAFDoc import XCAFDoc_DocumentTool, XCAFDoc_ShapeTool


def each(shape: TopoDS_Shape, kind: TopAbs_ShapeEnum):
    explorer = TopExp_Explorer(shape, kind)
    while explorer.More():
        yield explorer.Current()
        explorer.Next()


def named_bodies(document: TDocStd_Document) -> list[tuple[str, TopoDS_Shape]]:
    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    labels = Sequence_TDF_Label()
    tool.GetFreeShapes(labels)
    found: list[tuple[str, TopoDS_Shape]] = []
    for label in (labels.Value(i + 1) for i in range(labels.Length())):
        _collect(label, TopLoc_Location(), "", found)
    return found


def _collect(label, location: TopLoc_Location, name: str, found: list) -> None:
    own = _name(label) or name
    if XCAFDoc_ShapeTool.IsReference_s(label):
        inner = TDF_Label()
        XCAFDoc_ShapeTool.GetReferredShape_s(label, inner)
        moved = location.Multiplied(XCAFDoc_ShapeTool.GetLocation_s(label))
        _collect(inner, moved, own, found)
        return
    if XCAFDoc_ShapeTool.IsAssembly_s(label):
        parts = Sequence_TDF_Label()
        XCAFDoc_ShapeTool.GetComponents_s(label, parts, False)
        for part in (parts.Value(i + 1) for i in range(parts.Length())):
            _collect(part, location, own, found)
        return
    shape = XCAFDoc_ShapeTool.GetShape_s(label).Moved(location)
    solids = list(each(shape, TopAbs_ShapeEnum.TopAbs_SOLID)) or list(each(shape, TopAbs_ShapeEnum.TopAbs_SHELL))
    solids = solids or ([shape] if any(each(shape, TopAbs_ShapeEnum.TopAbs_FACE)) else [])
    for k, solid in enumerate(solids):
        found.append((f"{own or 'Body'} {k + 1}" if len(solids) > 1 else own or f"Body {len(found) + 1}", solid))


def _name(label) -> str:
    attribute = TDataStd_Name()
    if label.FindAttribute(TDataStd_Name.GetID_s(), attribute):
        return attribute.Get().ToExtString().strip()
    return ""
