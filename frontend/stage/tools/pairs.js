// Places picked twice, on the part and on the scan. Clicks may come faster than answers: each adds to those of the answer before.
import htmx from "htmx.org";

let picking = Promise.resolve();

export const pairs = {
  name: "pairs",
  anywhere: true,
  clicked(stage, ray, control, caster) {
    const at = control.dataset.wants === "scan" ? stage.cloud.nearest(ray) : stage.part.hitBy(caster)?.point.toArray();
    if (!at || !control.dataset.wants) return;
    picking = picking
      .catch(() => {})
      .then(() => {
        const target = document.getElementById("laid-pairs");
        const form = target.querySelector("form");
        const { on_part, on_scan } = form.elements;
        const values = { point: at.map((v) => v.toFixed(4)).join(","), on_part: on_part.value, on_scan: on_scan.value };
        return htmx.ajax("POST", form.dataset.to, { values, source: stage.view.canvas, target, swap: "innerHTML" });
      });
    picking.catch(() => {}); // one that is cut off is told of by the notices
  },
};
