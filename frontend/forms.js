// A form whose choices bring other fields, or that gets one more item, is drawn anew by the server with what was typed.
import htmx from "htmx.org";

function refill(form, more) {
  const values = Object.fromEntries(new FormData(form));
  if (more) values.more = more;
  const target = form.querySelector(".fields");
  htmx.ajax("POST", form.dataset.refill, { values, target, swap: "outerHTML", select: ".fields" });
}

export function forms() {
  document.addEventListener("change", (event) => {
    const form = event.target.closest("form[data-refill]");
    if (form && event.target.matches("[data-follows] > select")) refill(form);
  });
  document.addEventListener("click", (event) => {
    const form = event.target.closest("form[data-refill]");
    if (form && event.target.matches("[data-more]")) refill(form, event.target.value);
  });
}
