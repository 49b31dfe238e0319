// The slip rests at one line where one measures and opens with what a person opens; how high they want it is remembered. On a
// phone it lies over all, or is closed.
const KEY = "slip-size";
const STAGE = /\/jobs\/\d+\/([a-z]+)(?:\?|$)/;
const MEASURING = ["measure", "place"];
const BY_ITSELF = "X-By-Itself";
const SWIPE_PX = 60;
const phone = window.matchMedia("(max-width: 700px)");

export function slip() {
  const left = document.getElementById("left");
  const content = document.getElementById("slip");
  let stage = document.getElementById("words").dataset.stage;
  const key = () => `${KEY}-${MEASURING.includes(stage) ? "measuring" : "other"}`;
  const rest = () => {
    const measuring = MEASURING.includes(stage);
    if (phone.matches) return measuring ? "line" : "whole";
    return localStorage.getItem(key()) ?? (measuring ? "line" : "third");
  };
  const show = (size) => {
    left.dataset.slip = size;
    for (const button of document.querySelectorAll("[data-slip-size]"))
      button.setAttribute("aria-pressed", String(button.dataset.slipSize === size));
  };
  show(rest());
  phone.addEventListener("change", () => show(rest()));
  document.addEventListener("click", ({ target }) => {
    const size = target.dataset?.slipSize;
    if (!size) return;
    if (!phone.matches) localStorage.setItem(key(), size);
    show(size);
  });
  document.addEventListener("htmx:afterSwap", ({ target, detail }) => {
    if (!detail.requestConfig || detail.requestConfig.headers[BY_ITSELF] !== undefined) return;
    if (target.matches?.("#slip [data-answer]")) bringUp(content, target);
    if (target !== content) return;
    const page = STAGE.exec(detail.pathInfo.requestPath)?.[1];
    if (page) stage = page;
    if (page) show(rest());
    else if (left.dataset.slip === "line") show(phone.matches ? "whole" : "third");
  });
  content.addEventListener("click", ({ target }) => {
    const folded = target.closest("summary")?.parentElement;
    if (folded && !folded.open) setTimeout(() => bringUp(content, folded)); // once it is open
  });
  swipedAway(document.querySelector(".slip-handle"), () => show("line"));
}

// What is unfolded, or answered, in the lower half would come where nobody sees it.
function bringUp(content, unfolded) {
  const { top, height } = content.getBoundingClientRect();
  if (unfolded.getBoundingClientRect().top > top + height / 2) unfolded.scrollIntoView({ block: "start" });
}

function swipedAway(handle, close) {
  let from = null;
  handle.addEventListener("touchstart", ({ touches }) => (from = touches[0].clientY), { passive: true });
  handle.addEventListener("touchend", ({ changedTouches }) => {
    if (from !== null && changedTouches[0].clientY - from > SWIPE_PX) close();
    from = null;
  });
}
