// Pictures for the report: what the stage shows, told as data, which the server draws; the first PDF takes one along by itself.
import htmx from "htmx.org";
import { say } from "./notices.js";
import { parts } from "./parts.js";
import { pictured } from "./pictured.js";

export const asked = () => document.getElementById("tags-asked");

// What the form of tags says, and what the stage shows.
export function seenNow(stage) {
  const form = asked();
  const values = form ? Object.fromEntries([...new FormData(form)].filter(([name]) => name !== "shows")) : {};
  const shows = form ? new FormData(form).getAll("shows") : [];
  return { ...values, shows, rows: [...stage.chosen].join(","), seen: JSON.stringify(stage.seen()) };
}

export function report(bench, stage) {
  parts();
  pictured();
  const post = (url, more) => htmx.ajax("POST", url, { values: { ...seenNow(stage), ...more }, swap: "none", target: "body" });
  // ``called``: kept from elsewhere than the report's own page.
  const keep = async ({ keepView: url, called, round }) => {
    await post(url, { ...(called && { caption: called }), ...(round && { round }) });
    if (called) say(`${called} is kept as it is seen now: it stands in the report.`, true);
  };
  document.addEventListener("click", ({ target }) => {
    const { dataset } = target;
    if (!dataset?.keepView) return;
    if (stage.ready) keep(dataset);
    else say("There is no picture of the stage here. Nothing was kept. The reports are made without it.");
  });
  document.addEventListener("submit", (event) => event.target.id === "tags-asked" && event.preventDefault());
  document.addEventListener("htmx:confirm", (event) => {
    const { target, detail } = event;
    if (target.dataset?.report !== "pdf" || document.querySelector(".pictures img")) return;
    const keepView = document.querySelector("[data-keep-view]:not([data-called], [data-round])");
    if (!keepView || !stage.ready || document.body.classList.contains("reader")) return;
    event.preventDefault();
    const row = htmx.values(target).getAll("row");
    const values = { ...JSON.parse(target.getAttribute("hx-vals")), row };
    // not by the button that was pressed: once the picture is kept another slip, with another button, may be there
    const make = () => htmx.ajax("POST", detail.path, { values, target: "#reports", swap: "outerHTML" });
    post(keepView.dataset.keepView).finally(make);
  });
}
