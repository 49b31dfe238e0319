// A long sheet comes in blocks: rows that nobody has come to are not in the page, and come when they are scrolled to,
// reached by the keyboard, or current.
import htmx from "htmx.org";

const holding = (row) => document.querySelector(`.later[data-rows~="${row}"]`);
const want = (block) => block?.matches(".later") && htmx.trigger(block, "wanted");

export function later() {
  const frame = document.getElementById("rows-frame");
  frame.addEventListener("focusin", ({ target }) => {
    const entry = target.closest(".entry");
    want(entry?.nextElementSibling);
    want(entry?.previousElementSibling);
  });
  document.addEventListener("zipplumb:update", ({ detail }) => {
    const { current } = detail.scene;
    if (current && !document.getElementById(`row-${current}`)) want(holding(current));
    // what changed while a block was under way may not be in what comes
    for (const row of detail.rows) holding(row)?.toggleAttribute("data-late", true);
  });
  document.addEventListener("htmx:beforeRequest", ({ target }) => target.removeAttribute("data-late"));
  document.addEventListener("htmx:beforeSwap", ({ target, detail }) => {
    if (!target.matches(".later[data-late]")) return;
    detail.shouldSwap = false;
    htmx.ajax("GET", target.getAttribute("hx-get"), { source: target, target, swap: "outerHTML" });
  });
}
