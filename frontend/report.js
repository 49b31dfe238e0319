// Pictures of the stage for the report; the first PDF takes one along by itself.
import htmx from "htmx.org";

export function report(bench, stage) {
  const keep = async (url) => {
    await htmx.ajax("POST", url, { values: { png: stage.picture(), caption: "The part as it stood on the stage" }, swap: "none", target: "body" });
    await htmx.ajax("GET", location.pathname, { target: "#slip" });
  };
  document.addEventListener("click", (event) => {
    const url = event.target.dataset?.keepView;
    if (url) keep(url);
  });
  document.addEventListener("htmx:confirm", (event) => {
    const form = event.target;
    if (!form.matches?.("[data-report]") || form.dataset.pictured) return;
    const button = document.querySelector("[data-keep-view]");
    if (!button || document.querySelector(".pictures img")) return;
    event.preventDefault();
    form.dataset.pictured = "1";
    htmx.ajax("POST", button.dataset.keepView, { values: { png: stage.picture(), caption: "The part as it stood on the stage" }, swap: "none", target: "body" }).then(() => event.detail.issueRequest(true));
  });
}
