// The slip rests at one line, takes a third, or the whole left side, and remembers which.
const KEY = "slip-size";

export function slip() {
  const left = document.getElementById("left");
  const show = (size) => {
    left.dataset.slip = size;
    for (const button of document.querySelectorAll("[data-slip-size]"))
      button.setAttribute("aria-pressed", String(button.dataset.slipSize === size));
  };
  show(localStorage.getItem(KEY) ?? "third");
  document.addEventListener("click", (event) => {
    const size = event.target.dataset?.slipSize;
    if (!size) return;
    localStorage.setItem(KEY, size);
    show(size);
  });
}
