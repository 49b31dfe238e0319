// Sentences that come up and go away, and a word before a hopeless upload.
const MOST = 3;

// `passing`: it may go away by itself; what went wrong stays until somebody has read it.
export function say(words, passing = false) {
  const box = document.createElement("div");
  box.className = "notice";
  box.setAttribute("role", passing ? "status" : "alert");
  box.innerHTML = '<p></p><button type="button" data-close aria-label="Close">Close</button>';
  box.firstChild.textContent = words;
  document.getElementById("notices").append(box);
  if (passing) setTimeout(() => box.remove(), 12000);
}

export function notices() {
  document.addEventListener("click", (event) => {
    if (event.target.matches("[data-close]")) event.target.closest(".notice").remove();
    if (event.target.matches("[data-keys]")) document.getElementById("keys").showModal();
  });
  document.addEventListener("change", (event) => {
    const largest = event.target.dataset?.largest;
    if (!largest || !event.target.files?.length || event.target.files[0].size <= Number(largest)) return;
    event.target.value = "";
    say(`That file is larger than ${Math.round(largest / 1048576)} MB. Nothing was sent. Export only the bodies that are needed.`);
  });
  document.addEventListener("htmx:sendError", () => say("The server does not answer. Nothing was changed. It is tried again by itself when you press again."));
  const notices = document.getElementById("notices");
  // not by htmx, which finds no place once what was pressed has been replaced
  document.addEventListener("htmx:beforeSend", ({ detail: { xhr } }) =>
    xhr.addEventListener("load", () => xhr.getResponseHeader("Notice") && notices.insertAdjacentHTML("beforeend", xhr.response)),
  );
  new MutationObserver(() => {
    while (notices.children.length > MOST) notices.firstElementChild.remove();
  }).observe(notices, { childList: true });
}
