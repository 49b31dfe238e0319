// A click on a map: how far the scan is off there comes into the slip, and may be pinned.
import htmx from "htmx.org";

export const place = {
  name: "place",
  anywhere: true,
  clicked(stage, ray, control) {
    const at = stage.painted.nearest(ray);
    if (!at) return;
    const target = document.getElementById("place");
    const values = { at: at.map((v) => v.toFixed(5)).join(",") };
    htmx.ajax("GET", control.dataset.looks, { values, source: target, target, swap: "innerHTML" }).catch(() => {});
  },
};
