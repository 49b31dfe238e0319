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
  function follow() {
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
