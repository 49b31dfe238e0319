// A place to stand, put on the stage by a click: where the pointer meets the height that was typed.
import { Vector3 } from "three";
import { say } from "../../notices.js";

const FARTHEST_MM = 1e5;
const ARM_MM = 150;
const SEEN = 0.35; // of the size of the part alone: one stands beside it

// Where a ray meets a height, mm; null where that is out of the world. The height may lie behind the eye.
export function atHeight({ origin, direction }, highMm) {
  const at = new Vector3().copy(origin).addScaledVector(direction, (highMm - origin.z) / direction.z);
  return at.length() < FARTHEST_MM ? at : null;
}

export function lookRound(view) {
  view.look("top");
  view.zoomBy(SEEN);
}

export const stand = {
  name: "stand",
  anywhere: true,
  clicked(stage, ray, control) {
    const { elements } = control.form;
    const { mm, coarse } = stage.unit;
    const at = atHeight(ray, Number.parseFloat(elements.high.value.replace(",", ".")) * mm);
    if (!at) {
      say("Nothing was put there. Type a height, and look from above.");
      return;
    }
    for (const [k, axis] of [..."XYZ"].entries()) elements[`${control.value}.${axis}`].value = (at.getComponent(k) / mm).toFixed(coarse + 1);
    const arms = [0, 1, 2].map((k) => [-ARM_MM, ARM_MM].map((by) => at.clone().setComponent(k, at.getComponent(k) + by).toArray()));
    stage.marks.showAhead({ lines: arms });
    stage.view.draw();
  },
};
