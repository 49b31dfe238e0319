// Rows that are chosen: on the sheet (the mark of a row, Ctrl and the row, Shift from the last one on, X and Shift with the
// arrows), on the part (a face, or a rectangle, with Shift held), or in a list of a form. There is one choice, seen in all of
// them, and whatever works on several rows takes it. It outlives the page.
import htmx from "htmx.org";
import { say } from "./notices.js";

const NAMED = 4;

export function chosen(bench, stage) {
  const kept = `chosen-${bench.dataset.job}`;
  const rows = document.getElementById("rows-frame");
  const bar = document.getElementById("chosen");
  const spoken = document.getElementById("spoken");
  let ids = new Set(JSON.parse(sessionStorage.getItem(kept) ?? "[]"));
  let anchor = null; // from which Shift goes on

  const rowOf = (target) => target.closest?.("a.row[data-row]")?.dataset.row;
  const nameOf = (id) => stage.state.rows[id]?.name ?? "";
  const inOrder = () => stage.order.filter((id) => ids.has(id));

  function choose(some, on = true) {
    const before = ids.size;
    for (const id of some) {
      if (on) ids.add(id);
      else ids.delete(id);
    }
    anchor = some.at(-1) ?? anchor;
    if (some.length === 1) spoken.textContent = `${nameOf(some[0])} ${on ? "chosen" : "let go"}, ${ids.size} in all`;
    else if (ids.size !== before) spoken.textContent = `${ids.size} chosen`;
    show();
  }
  const toggle = (id) => choose([id], !ids.has(id));
  const upTo = (id) => {
    const [a, b] = [stage.order.indexOf(anchor), stage.order.indexOf(id)].sort((x, y) => x - y);
    choose(a < 0 ? [id] : stage.order.slice(a, b + 1));
    anchor = id;
  };
  const letGo = () => {
    ids = new Set();
    anchor = null;
    show();
  };

  // ---- where it is seen ---------------------------------------------------------------
  function show() {
    const there = inOrder();
    ids = new Set(there);
    sessionStorage.setItem(kept, JSON.stringify(there));
    marks();
    bar.hidden = !there.length;
    bar.querySelector(".count").textContent = `${there.length} chosen`;
    const more = there.length > NAMED ? ` and ${there.length - NAMED} more` : "";
    bar.querySelector(".names").textContent = there.slice(0, NAMED).map(nameOf).join(", ") + more;
    lists();
    stage.choose(ids);
  }
  function marks() {
    for (const entry of rows.querySelectorAll(".entry.chosen")) if (!ids.has(entry.dataset.entry)) entry.classList.remove("chosen");
    for (const id of ids) document.getElementById(`row-${id}`)?.classList.add("chosen");
  }
  function lists() {
    for (const list of document.querySelectorAll("[data-choose]")) {
      let changed = false;
      grow(list);
      for (const box of list.querySelectorAll("input")) {
        const on = ids.has(box.value) && !box.disabled;
        changed ||= box.checked !== on;
        box.checked = on;
        box.parentElement.classList.toggle("wanted", ids.has(box.value));
      }
      if (changed) list.dispatchEvent(new Event("change", { bubbles: true }));
    }
    for (const table of document.querySelectorAll("[data-choose-lines]")) lines(table);
  }
  // a row that came to the sheet after the list did
  function grow(list) {
    const role = list.dataset.choose;
    if (!role) return;
    for (const id of ids) {
      if (list.querySelector(`input[value="${id}"]`) || (role !== "any" && stage.state.rows[id]?.role !== role)) continue;
      const label = document.createElement("label");
      label.className = "check";
      label.append(Object.assign(document.createElement("input"), { type: "checkbox", name: list.dataset.named, value: id }), ` ${nameOf(id)}`);
      list.querySelector(".none").before(label);
    }
  }
  // of a table whose lines are rows: those that are chosen or in use, where some are
  function lines(table) {
    const each = [...table.querySelectorAll("[data-of-row]")];
    const some = each.some((line) => ids.has(line.dataset.ofRow));
    const all = table.parentElement.querySelector("[data-choose-list]");
    const listed = all?.getAttribute("aria-expanded") === "true";
    for (const line of each) line.hidden = some && !listed && !ids.has(line.dataset.ofRow) && !line.querySelector(":checked:not(option)");
    if (all) all.hidden = !some;
  }

  // ---- how it is made -----------------------------------------------------------------
  document.addEventListener(
    "click",
    (event) => {
      const id = rowOf(event.target);
      if (!id) return;
      if (event.shiftKey) upTo(id);
      else if (event.ctrlKey || event.metaKey || event.target.closest(".mark")) toggle(id);
      else {
        anchor = id;
        return;
      }
      event.preventDefault();
      event.stopPropagation(); // the row is not opened
    },
    true,
  );
  rows.addEventListener("mousedown", (event) => event.shiftKey && event.preventDefault()); // no words are marked
  rows.addEventListener("keydown", (event) => {
    const id = rowOf(event.target);
    const step = { ArrowUp: -1, ArrowDown: 1 }[event.key];
    if (!id || !step || !event.shiftKey) return;
    const next = stage.order[stage.order.indexOf(id) + step];
    choose(next ? [id, next] : [id]);
  });
  document.addEventListener("change", ({ target }) => {
    if (target.matches("[data-choose] input")) choose([target.value], target.checked);
    if (!target.matches("[data-only-chosen]")) return;
    const list = document.getElementById(target.getAttribute("aria-controls"));
    list.disabled = list.hidden = !target.checked;
  });
  document.addEventListener("click", ({ target }) => {
    if (target.matches?.("[data-let-go]")) letGo();
    if (target.matches?.("[data-choose-list]")) {
      const listed = target.getAttribute("aria-expanded") !== "true";
      target.setAttribute("aria-expanded", String(listed));
      lists();
    }
    const act = target.dataset?.chosenAct;
    if (act) done(act);
  });
  function done(act) {
    const there = inOrder();
    const what = there.length === 1 ? nameOf(there[0]) : `these ${there.length} rows`;
    if (act === "remove" && !confirm(`Take ${what} off the sheet? Readings are kept, and rows can be brought back on the Part page.`)) return;
    htmx.ajax("POST", `/jobs/${bench.dataset.job}/rows/${act}`, { values: { row: there }, swap: "none", target: "body" });
  }

  stage.chooseFace = (face) => {
    const found = stage.rowsOf(face);
    if (!found.length) say("Nothing is planned there: plan a row from it first.", true);
    else if (found.every((id) => ids.has(id))) choose(found, false);
    else choose(found);
  };
  stage.chooseRows = (found) => (found.length ? choose(found) : say("No row is whole in that rectangle.", true));
  for (const come of ["htmx:afterSwap", "htmx:oobAfterSwap"]) document.addEventListener(come, marks);
  document.addEventListener("htmx:afterSettle", lists);
  document.addEventListener("zipplumb:update", show);
  show();
  return { toggle: (row) => toggle(row ?? rowOf(document.activeElement) ?? String(stage.state.current)), ids: inOrder };
}
