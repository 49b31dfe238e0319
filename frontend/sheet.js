// The run sheet by the keyboard: up and down the rows, Escape to the details of the row.
export function sheet() {
  const rows = document.getElementById("rows-frame");
  let last = null; // the row that has the focus: it is replaced whenever its words change

  const every = () => [...rows.querySelectorAll("a.row[data-row]")];
  const moves = {
    ArrowDown: (at) => at + 1,
    ArrowUp: (at) => at - 1,
    Home: () => 0,
    End: () => Infinity,
  };
  rows.addEventListener("keydown", (event) => {
    const row = event.target.closest("a.row[data-row]");
    if (!row) return;
    if (event.key === "Escape") document.getElementById("slip").focus();
    const move = moves[event.key];
    if (!move) return;
    event.preventDefault();
    const all = every();
    all[Math.min(Math.max(move(all.indexOf(row)), 0), all.length - 1)].focus();
  });
  rows.addEventListener("focusin", (event) => (last = event.target.closest("a.row[data-row]")?.dataset.row ?? null));
  rows.addEventListener("focusout", (event) => {
    if (event.relatedTarget) last = null;
  });
  document.addEventListener("htmx:oobAfterSwap", () => {
    if (last && document.activeElement === document.body) rows.querySelector(`a.row[data-row="${last}"]`)?.focus();
  });
}
