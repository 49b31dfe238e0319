// A kept picture, opened large: its tags are dragged to where they are wanted, and double-clicked to go back by themselves.
import htmx from "htmx.org";

const LEAST_PX = 3;

export function pictured() {
  document.addEventListener("click", ({ target }) => {
    const opens = target.closest?.("[data-open-picture]");
    if (opens) open(opens.dataset);
  });
}

async function open({ openPicture, tagTo }) {
  const dialog = document.body.appendChild(document.createElement("dialog"));
  dialog.className = "large-picture";
  dialog.innerHTML = '<form method="dialog"><p class="how"></p><button class="button">Close</button></form><div class="drawn"></div>';
  dialog.addEventListener("close", () => dialog.remove());
  await draw(dialog, openPicture, tagTo);
  dialog.showModal();
}

async function draw(dialog, address, tagTo) {
  const response = await fetch(address, { cache: "no-store" });
  const drawn = dialog.querySelector(".drawn");
  if (!response.ok) {
    drawn.textContent = "This picture cannot be drawn. The others are there.";
    return;
  }
  if (!response.headers.get("Content-Type").includes("svg")) {
    drawn.innerHTML = `<img src="${address}" alt="">`;
    return;
  }
  drawn.innerHTML = await response.text();
  const may = !document.body.classList.contains("reader");
  const tags = drawn.querySelectorAll("[data-tag]");
  dialog.querySelector(".how").textContent = tags.length && may ? "Drag a tag to where you want it. Double-click it, and it goes back by itself." : "";
  if (may) for (const tag of tags) movable(tag, (at) => moved(dialog, address, tagTo, tag.dataset.tag, at));
}

async function moved(dialog, address, tagTo, row, at) {
  const values = { row, ...(at && { at: at.map((v) => v.toFixed(5)).join(",") }) };
  await htmx.ajax("POST", tagTo, { values, swap: "none", target: "body" }).catch(() => {});
  await draw(dialog, address, tagTo);
}

function movable(tag, then) {
  const svg = tag.ownerSVGElement;
  const { width, height } = svg.viewBox.baseVal;
  const box = tag.querySelector("rect");
  let from = null;
  const there = (event) => {
    const { left, top, width: wide, height: high } = svg.getBoundingClientRect();
    return [((event.clientX - left) / wide) * width, ((event.clientY - top) / high) * height];
  };
  tag.addEventListener("pointerdown", (event) => {
    from = there(event);
    tag.setPointerCapture(event.pointerId);
    event.preventDefault();
  });
  tag.addEventListener("pointermove", (event) => {
    if (!from) return;
    const [x, y] = there(event);
    tag.setAttribute("transform", `translate(${x - from[0]} ${y - from[1]})`);
  });
  tag.addEventListener("pointerup", (event) => {
    if (!from) return;
    const [x, y] = there(event).map((v, k) => v - from[k]);
    from = null;
    if (Math.hypot(x, y) < LEAST_PX) return;
    then([(box.x.baseVal.value + x) / width, (box.y.baseVal.value + y) / height]);
  });
  tag.addEventListener("dblclick", () => then(null));
}
