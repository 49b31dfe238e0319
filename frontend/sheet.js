// The run sheet by the keyboard: up and down the rows, with Alt the row itself, Escape to the details of the row. By hand a row
// is dragged to another place.
import htmx from "htmx.org";

export function sheet(bench, choice) {
  const rows = document.getElementById("rows-frame");
  const post = (path, values = {}) =>
    htmx.ajax("POST", `/jobs/${bench.dataset.job}/rows/${path}`, { values, swap: "none", target: "body" });
  // a row that is chosen takes the others that are along
  const withIt = (id) => (choice.ids().includes(id) ? choice.ids() : [id]);
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
    if (event.altKey) {
      if (event.key.startsWith("Arrow")) post(`move/${event.key === "ArrowUp" ? "up" : "down"}`, { row: withIt(row.dataset.row) });
      return;
    }
    const to = move(row.closest(".entry"));
    // rows that are not here yet come, and are reached by the next press
    if (to?.matches(".later")) to.scrollIntoView({ block: event.key === "ArrowUp" || event.key === "End" ? "end" : "start" });
    to?.querySelector("a.row[data-row]")?.focus();
  });
  rows.addEventListener("focusin", (event) => (last = event.target.closest("a.row[data-row]")?.dataset.row ?? null));
  rows.addEventListener("focusout", (event) => {
    if (event.relatedTarget) last = null;
  });
  drag(rows, (id, before) => post("put", { row: withIt(id), before }));
  document.addEventListener("htmx:oobAfterSwap", () => {
    if (last && document.activeElement === document.body) rows.querySelector(`a.row[data-row="${last}"]`)?.focus();
  });
}

// A row goes before the one on whose upper half it is let go, else behind it.
function drag(rows, put) {
  let dragged = null;
  let over = null;
  const leave = () => over?.classList.remove("drop-before", "drop-after");
  const place = ({ target, clientY }) => {
    const entry = target.closest?.(".entry");
    if (!entry) return null;
    const { top, height } = entry.getBoundingClientRect();
    return { entry, behind: clientY > top + height / 2 };
  };
  rows.addEventListener("dragstart", (event) => {
    dragged = event.target.closest("a.row[data-row]")?.closest(".entry") ?? null;
    event.dataTransfer?.setData("text/plain", dragged?.querySelector(".name b")?.textContent ?? "");
  });
  rows.addEventListener("dragover", (event) => {
    const at = dragged && place(event);
    if (!at) return;
    event.preventDefault();
    leave();
    over = at.entry;
    if (over !== dragged) over.classList.add(at.behind ? "drop-after" : "drop-before");
  });
  rows.addEventListener("drop", (event) => {
    const at = dragged && place(event);
    if (!at || at.entry === dragged) return;
    event.preventDefault();
    const next = at.behind ? at.entry.nextElementSibling : at.entry;
    if (next === dragged) return;
    const before = next?.dataset.entry ?? next?.dataset.rows?.split(" ")[0] ?? "";
    put(dragged.dataset.entry, before);
  });
  rows.addEventListener("dragend", () => {
    leave();
    dragged = over = null;
  });
}
