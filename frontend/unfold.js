// Rows of the sheet unfold their other characteristics, and stay so when they are drawn anew.
const open = new Set();

function show(entry) {
  const others = entry.querySelector(".others");
  if (!others) return;
  const unfolded = open.has(entry.dataset.entry);
  others.hidden = !unfolded;
  entry.querySelector("[data-unfold]").setAttribute("aria-expanded", String(unfolded));
}

export function unfold() {
  document.addEventListener("click", (event) => {
    const id = event.target.closest("[data-unfold]")?.dataset.unfold;
    if (!id) return;
    if (!open.delete(id)) open.add(id);
    show(document.getElementById(`row-${id}`));
  });
  document.addEventListener("zipplumb:update", () => {
    for (const id of open) {
      const entry = document.getElementById(`row-${id}`);
      if (entry) show(entry);
    }
  });
}
