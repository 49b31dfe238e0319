// A rectangle dragged round rows with Shift held: those are chosen of which all that is seen, of their face or of their hits, is
// in it. Where a rectangle marks a region of a scan (a ticked box of the slip), it is dragged alone, and stays to be seen.
import { Vector3 } from "three";

const marks = () => document.querySelector('[data-tool="region"]:checked');

const LEAST_PX = 5;
const LOOKED_AT = 24; // places of a face

export function rectangle(stage) {
  const { canvas } = stage.view;
  const frame = canvas.parentElement.appendChild(document.createElement("div"));
  frame.className = "rectangle";
  frame.hidden = true;
  let from = null;
  const at = (event) => {
    const box = canvas.getBoundingClientRect();
    return [event.clientX - box.left, event.clientY - box.top];
  };
  const between = ([a, b], [c, d]) => ({ left: Math.min(a, c), top: Math.min(b, d), right: Math.max(a, c), bottom: Math.max(b, d) });
  // before the controls, which would move the picture
  canvas.addEventListener(
    "pointerdown",
    (event) => {
      frame.hidden = true;
      if (!(event.shiftKey || marks()) || event.button !== 0 || !stage.ready) return;
      from = at(event);
      stage.view.controls.enabled = false;
      canvas.setPointerCapture(event.pointerId);
    },
    true,
  );
  canvas.addEventListener("pointermove", (event) => {
    if (!from) return;
    const { left, top, right, bottom } = between(from, at(event));
    frame.hidden = Math.max(right - left, bottom - top) < LEAST_PX;
    Object.assign(frame.style, { left: `${left}px`, top: `${top}px`, width: `${right - left}px`, height: `${bottom - top}px` });
  });
  const end = (event) => {
    if (!from) return;
    const box = between(from, at(event));
    from = null;
    stage.view.controls.enabled = true;
    const drawn = !frame.hidden && event.type === "pointerup";
    const control = event.shiftKey ? null : marks();
    frame.hidden = !(drawn && control);
    if (drawn && control) marked(stage, box, control.form);
    else if (drawn) stage.chooseRows(seenIn(stage, box));
  };
  canvas.addEventListener("pointerup", end);
  canvas.addEventListener("pointercancel", end);
}

// The form is told the region that is seen in the rectangle, and asks what is in it.
function marked(stage, box, form) {
  form.elements.region.value = regionOf(stage.view, box).flat(2).map((v) => v.toFixed(6)).join(",");
  form.querySelector("[data-asks]").click();
}

// Four planes along the line of sight, each a point and its normal out of the rectangle.
export function regionOf(view, { left, top, right, bottom }) {
  const corners = [[left, top], [right, top], [right, bottom], [left, bottom]].map(([x, y]) => view.rayAt(x, y).ray);
  const middle = corners[0].origin.clone().add(corners[2].origin).multiplyScalar(0.5);
  return corners.map(({ origin, direction }, k) => {
    const along = corners[(k + 1) % 4].origin.clone().sub(origin);
    const out = along.cross(direction).normalize();
    if (out.dot(origin.clone().sub(middle)) < 0) out.negate();
    return [origin.toArray(), out.toArray()];
  });
}

export function seenIn(stage, { left, top, right, bottom }) {
  const { part, view, state } = stage;
  const inside = (point) => {
    const [x, y] = view.onPaper(point);
    return x >= left && x <= right && y >= top && y <= bottom;
  };
  const isSeen = (face) => (point) => {
    const hit = part.hitBy(view.rayAt(...view.onPaper(point)));
    return hit && part.faceOf(hit) === face;
  };
  return stage.order.filter((id) => {
    const { face, hits = [] } = state.rows[id] ?? {};
    const seen = face != null ? part.places(face, LOOKED_AT).filter(isSeen(face)) : hits.map((hit) => new Vector3(...hit));
    return seen.length > 0 && seen.every(inside);
  });
}
