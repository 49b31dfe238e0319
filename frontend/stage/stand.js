// A place to stand, put on the stage by a click: where the pointer meets the height that was typed.
import { say } from "../notices.js";

const FARTHEST_MM = 1e5;
const ARM_MM = 150;
const SEEN = 0.35; // of the size of the part alone: one stands beside it

export function lookRound(stage) {
  stage.look("top");
  stage.camera.zoom *= SEEN;
  stage.camera.updateProjectionMatrix();
  stage.draw();
}

export function standThere(stage, ray, chosen) {
  const { elements } = chosen.form;
  const unit = stage.bench.dataset.units === "in" ? 25.4 : 1;
  const high = Number.parseFloat(elements.high.value.replace(",", "."));
  const { origin, direction } = ray; // the height may lie behind the eye
  const at = origin.clone().addScaledVector(direction, (high * unit - origin.z) / direction.z);
  if (!(at.length() < FARTHEST_MM)) return say("Nothing was put there. Type a height, and look from above.");
  for (const [k, axis] of [..."XYZ"].entries()) elements[`${chosen.value}.${axis}`].value = (at.getComponent(k) / unit).toFixed(unit > 1 ? 2 : 1);
  const arms = [0, 1, 2].map((k) => [-ARM_MM, ARM_MM].map((by) => at.clone().setComponent(k, at.getComponent(k) + by).toArray()));
  stage.marks.showAhead({ lines: arms });
  stage.draw();
}
