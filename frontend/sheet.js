// The run sheet by the keyboard: up and down the rows, Escape to the details of the row.
export function sheet() {
  const rows = document.getElementById("rows-frame");
  let last = null; // the row that has the focus: it is replaced whenever its words change

  const moves = {
    ArrowDown: (entry) => entry.nextElementSibling,
    ArrowUp: (entry) => entry.previousElementSibling,
    Home: (entry) => entry.parentElement.firstElementChild,
    End: (entry) => entry.parentElement.lastElementChild,
  };
  rows.addEventListener("keydown", (event) => {
    const row = event.target.closest("a.row[data-row]");
    if (!row) return;
    if (event.key === "Escape") document.getElementById("slip").focus();
    const move = moves[event.key];
    if (!move) return;
    event.preventDefault();
    const to = move(row.closest(".entry"));
    // rows that are not here yet come, and are reached by the next press
    if (to?.matches(".later")) to.scrollIntoView({ block: event.key === "ArrowUp" || event.key === "End" ? "end" : "start" });
    to?.querySelector("a.row[data-row]")?.focus();
  });
  rows.addEventListener("focusin", (event) => (last = event.target.closest("a.row[data-row]")?.dataset.row ?? null));
  rows.addEventListener("focusout", (event) => {
    if (event.relatedTarget) last = null;
  });
  document.addEventListener("htmx:oobAfterSwap", () => {
    if (last && document.activeElement === document.body) rows.querySelector(`a.row[data-row="${last}"]`)?.focus();
  });
}
