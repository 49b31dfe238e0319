// A section drawn flat: two clicks on it say from where to where something is measured. What was clicked stays where the slip
// comes anew.
const ASKS = ["Click where it begins.", "Click where it ends.", "It is measured between the two."];
const AWAY = -9; // where a mark is not seen

let picked = { of: null, places: [] };

export function section() {
  document.addEventListener("click", (event) => {
    const svg = event.target.closest?.("#cut-flat svg");
    const form = document.getElementById("cut-measure");
    if (!svg || !form) return;
    const of = form.getAttribute("hx-post");
    const before = picked.of === of && picked.places.length === 1 ? picked.places : [];
    picked = { of, places: [...before, nearest(svg, event)] };
    show();
  });
  document.addEventListener("htmx:afterSettle", show);
}

// The point of the section next to where was clicked: on the drawing x and y, and its place on the part.
function nearest(svg, { clientX, clientY }) {
  const { a, d, e, f } = svg.getScreenCTM();
  const [x, y] = [(clientX - e) / a, (clientY - f) / d];
  const far = (point) => (point[0] - x) ** 2 + (point[1] - y) ** 2;
  return JSON.parse(svg.dataset.picks).reduce((best, point) => (far(point) < far(best) ? point : best));
}

function show() {
  const form = document.getElementById("cut-measure");
  if (!form) return;
  const places = picked.of === form.getAttribute("hx-post") ? picked.places : [];
  const { begin, end } = form.elements;
  [begin.value, end.value] = [0, 1].map((k) => (places[k] ?? []).slice(2).join(","));
  for (const [k, mark] of document.querySelectorAll("#cut-flat [data-picked]").entries()) {
    mark.setAttribute("cx", places[k]?.[0] ?? AWAY);
    mark.setAttribute("cy", places[k]?.[1] ?? AWAY);
  }
  form.querySelector("[data-asks]").textContent = ASKS[places.length];
  form.querySelector("button").disabled = places.length < 2;
}
