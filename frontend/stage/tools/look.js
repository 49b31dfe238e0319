// Where an instrument that looks by itself is aimed: a click on the part, of a line two.
import htmx from "htmx.org";

// What it measures, as it was chosen last: the page follows, and forms with it.
let chosen = null;

export function rememberLooks(slip) {
  slip.addEventListener("change", ({ target }) => {
    const form = target.form;
    if (form?.id !== "look") return;
    if (target.name === "shape") form.elements.at.value = form.elements.to.value = ""; // aimed at as something else
    chosen = ["shape", "side", "points"].map((name) => [name, form.elements[name].value]);
  });
  document.addEventListener("htmx:afterSwap", () => {
    const form = slip.querySelector("#look");
    if (form && chosen && !form.elements.at.value) for (const [name, value] of chosen) form.elements[name].value = value;
  });
}

export const look = {
  name: "look",
  clicked(_, { face, told: { point, normal } }, control) {
    const { form } = control;
    const { face: of, at, normal: outward, to, shape } = form.elements;
    const ends = shape.value === "line" && at.value && !to.value;
    if (ends) to.value = point;
    else [of.value, at.value, outward.value, to.value] = [face, point, normal, ""];
    at.dispatchEvent(new Event("input", { bubbles: true })); // what was aimed at stays while the page follows
    const answer = form.querySelector("#look-told");
    if (shape.value === "line" && !to.value) {
      answer.textContent = "Now click where the line ends.";
      return;
    }
    const values = Object.fromEntries(new FormData(form));
    htmx.ajax("GET", form.dataset.looks, { values, source: answer, target: answer, swap: "innerHTML" }).catch(() => {});
  },
};
