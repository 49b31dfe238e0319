// A row or a face is found by what it is called: without a pointer, or where it is too small to hit.
import htmx from "htmx.org";

export function find(pick) {
  const dialog = document.getElementById("find");
  const words = dialog.querySelector("[name=words]");
  const open = () => {
    dialog.showModal();
    words.select();
    htmx.trigger(words, "wanted");
  };
  dialog.addEventListener("click", ({ target }) => {
    const chosen = target.closest("[data-find]");
    if (!chosen) return;
    dialog.close();
    if (chosen.dataset.find === "face") pick(Number(chosen.dataset.face));
  });
  // down from the words into the list, and along it
  dialog.addEventListener("keydown", (event) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!step) return;
    event.preventDefault();
    const all = [words, ...dialog.querySelectorAll("[data-find]")];
    all[Math.min(all.length - 1, Math.max(0, all.indexOf(document.activeElement) + step))].focus();
  });
  return open;
}
