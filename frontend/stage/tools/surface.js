// A click on the scan: which surface is there comes into the slip, and may be made a row.
import htmx from "htmx.org";

const LOOKING = "Looking …";

export const surface = {
  name: "surface",
  anywhere: true,
  clicked(stage, ray, control) {
    const at = stage.cloud.nearest(ray);
    if (!at) return;
    const target = document.getElementById("surface");
    target.textContent = LOOKING;
    document.getElementById("holes")?.replaceChildren(); // what was found there is drawn no more
    const values = { at: at.map((v) => v.toFixed(5)).join(",") };
    const answered = htmx.ajax("GET", control.dataset.looks, { values, source: target, target, swap: "innerHTML" });
    answered.catch(() => {}).finally(() => target.textContent === LOOKING && target.replaceChildren()); // it was refused
  },
};
