// A form whose choices bring other fields, or that gets one more item, is drawn anew by the server with what was typed.
import htmx from "htmx.org";

function refill(form, more) {
  const values = Object.fromEntries(new FormData(form));
  if (more) values.more = more;
  const target = form.querySelector(".fields");
  htmx.ajax("POST", form.dataset.refill, { values, target, swap: "outerHTML", select: ".fields" });
}

// What a person sends before the page's own behaviour has reached a form that just came is sent all the same, and not the
// browser's way, which would leave the page and lose what was typed.
function early(event) {
  const form = event.target;
  if (event.defaultPrevented || !form.matches("[hx-post], [hx-get]")) return;
  event.preventDefault();
  htmx.process(form);
  htmx.trigger(form, "submit");
}

export function forms() {
  document.addEventListener("submit", (event) => {
    const { asksFirst } = event.target.dataset;
    if (asksFirst && !confirm(asksFirst)) event.preventDefault();
  });
  htmx.config.defaultSettleDelay = 0;
  document.addEventListener("submit", early);
  document.addEventListener("change", (event) => {
    const form = event.target.closest("form[data-refill]");
    if (form && event.target.matches("[data-follows] > select")) refill(form);
  });
  document.addEventListener("click", (event) => {
    const form = event.target.closest("form[data-refill]");
    if (form && event.target.matches("[data-more]")) refill(form, event.target.value);
  });
}
