// Pictures of the stage for the report; the first PDF takes one along by itself.
import htmx from "htmx.org";
import { say } from "./notices.js";

export function report(bench, stage) {
  const named = () => document.querySelector("[name=picture_name]")?.value.trim() || "The part as it stood on the stage";
  const post = (url, caption = named()) => htmx.ajax("POST", url, { values: { png: stage.picture(), caption }, swap: "none", target: "body" });
  // ``called``: kept from elsewhere than the report's own page.
  const keep = async (url, called) => {
    await post(url, called);
    if (!called) await htmx.ajax("GET", location.pathname, { target: "#slip" });
    else say(`${called} is kept as it is seen now: it stands in the report.`, true);
  };
  document.addEventListener("click", (event) => {
    const url = event.target.dataset?.keepView;
    if (!url) return;
    if (stage.ready) keep(url, event.target.dataset.called);
    else say("There is no picture of the stage here. Nothing was kept. The reports are made without it.");
  });
  document.addEventListener("htmx:confirm", (event) => {
    if (event.target.dataset?.report !== "pdf" || document.querySelector(".pictures img")) return;
    const keepView = document.querySelector("[data-keep-view]:not([data-called])");
    if (!keepView || !stage.ready || document.body.classList.contains("reader")) return;
    event.preventDefault();
    post(keepView.dataset.keepView).then(() => event.detail.issueRequest(true));
  });
  document.addEventListener("htmx:afterRequest", (event) => {
    if (event.target.dataset?.report === "pdf") htmx.ajax("GET", location.pathname, { target: "#slip" });
  });
}
