// A section drawn flat: two clicks on it say from where to where something is measured.
const ASKS = ["Click where it begins.", "Click where it ends.", "It is measured between the two."];

export function section() {
  document.addEventListener("click", (event) => {
    const svg = event.target.closest?.("#cut-flat svg");
    const form = document.getElementById("cut-measure");
    if (!svg || !form) return;
    const points = JSON.parse(svg.dataset.picks);
    const { left, top, width, height } = svg.getBoundingClientRect();
    const box = svg.viewBox.baseVal;
    const scale = Math.max(box.width / width, box.height / height);
    const x = (event.clientX - left - width / 2) * scale + box.width / 2;
    const y = (event.clientY - top - height / 2) * scale + box.height / 2;
    let nearest = points[0];
    for (const point of points) if ((point[0] - x) ** 2 + (point[1] - y) ** 2 < (nearest[0] - x) ** 2 + (nearest[1] - y) ** 2) nearest = point;
    const { begin, end } = form.elements;
    const first = !begin.value || Boolean(end.value);
    const [into, mark] = first ? [begin, 0] : [end, 1];
    into.value = nearest.slice(2).join(",");
    if (first) end.value = "";
    for (const circle of svg.querySelectorAll("[data-picked]")) {
      if (Number(circle.dataset.picked) === mark) circle.setAttribute("cx", nearest[0]), circle.setAttribute("cy", nearest[1]);
      else if (first) circle.setAttribute("cx", -9);
    }
    form.querySelector("[data-asks]").textContent = ASKS[first ? 1 : 2];
    form.querySelector("button").disabled = first;
  });
}
