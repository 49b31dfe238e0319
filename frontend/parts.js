// The parts of a report are put in order by dragging them; by keys, each has its buttons.
export function parts() {
  let dragged = null;
  const list = () => document.querySelector("[data-sorted]");
  document.addEventListener("dragstart", (event) => {
    dragged = event.target.closest?.("[data-sorted] > li");
    if (dragged) event.dataTransfer.effectAllowed = "move";
  });
  document.addEventListener("dragover", (event) => {
    const over = dragged && event.target.closest("[data-sorted] > li");
    if (!dragged || !list()?.contains(event.target)) return;
    event.preventDefault();
    if (!over || over === dragged) return;
    const { top, height } = over.getBoundingClientRect();
    over.parentElement.insertBefore(dragged, event.clientY < top + height / 2 ? over : over.nextSibling);
  });
  document.addEventListener("drop", (event) => dragged && event.preventDefault());
  document.addEventListener("dragend", () => {
    const form = dragged?.closest("form");
    dragged = null;
    form?.requestSubmit();
  });
}
