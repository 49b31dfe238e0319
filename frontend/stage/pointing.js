// What is pointed at in the page shows itself on the part: its faces, its lines, or how the part is loose.
import { Sway } from "./sway.js";

const NOTHING = { faces: [], lines: null, dots: null, value: "" };

export function pointing(stage) {
  const sway = new Sway(stage);
  const named = (target) => target.closest?.("[data-point], [data-row]")?.dataset ?? {};

  function point({ target }) {
    if (!stage.ready) return;
    const { point: key, row } = named(target);
    if (!key && !row) {
      stage.pointAt(NOTHING);
      return;
    }
    const { faces = [], lines, dots, drawn, value, sway: motion } = (key ? stage.drawing.point[key] : stage.state.rows[row]) ?? {};
    stage.pointAt({ faces, lines, dots, dimension: lines ?? drawn, value });
    if (motion) sway.begin(motion);
  }
  for (const come of ["pointerover", "focusin"]) document.addEventListener(come, point);
  for (const go of ["pointerout", "focusout"]) document.addEventListener(go, ({ target }) => {
    if (!named(target).point && !named(target).row) return;
    sway.end();
    stage.pointAt({ ...stage.pointed, lines: null, dots: null, value: "" });
  });
}
