// The plumb line: its bob hangs at the current row.
export function plumb() {
  const line = document.getElementById("plumb-line");
  const bob = document.getElementById("plumb-bob");
  const frame = document.getElementById("rows-frame");
  const sheet = frame.closest(".sheet");

  function hang() {
    const row = frame.querySelector(".row.current");
    if (!row) return;
    const top = sheet.getBoundingClientRect().top;
    const box = row.getBoundingClientRect();
    const bottom = sheet.clientHeight - 30;
    const y = Math.min(Math.max(box.top - top + box.height / 2 - 12, 30), bottom);
    bob.style.transform = `translateY(${y}px)`;
    line.setAttribute("y2", y);
  }

  let current = null;
  let waiting = false;
  // several changes come at once: what they make of the page is looked at once, when it is drawn
  function follow() {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(settle);
  }
  function settle() {
    waiting = false;
    const row = frame.querySelector(".row.current");
    if (row && row.dataset.row !== current) {
      current = row.dataset.row;
      row.scrollIntoView({ block: "nearest" });
    }
    hang();
  }
  frame.addEventListener("scroll", hang);
  window.addEventListener("resize", hang);
  document.addEventListener("zipplumb:update", follow);
  document.addEventListener("htmx:afterSettle", follow);
  document.fonts.ready.then(follow);
  follow();
}
