"""What somebody does at the screen, in their words."""

from __future__ import annotations

import shutil
import time

from playwright.sync_api import Error, expect

from zipplumb.demo.seed import PASSWORD
from zipplumb.jobs.hand import tell_hand

CHROMIUM = [
    "--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--ignore-gpu-blocklist",
    "--disable-gpu-compositing", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


# of edges in 3D, which costs a third of a drawing where the processor draws, and which nobody looks at
WITHOUT_SMOOTHING = """
const { getContext } = HTMLCanvasElement.prototype;
HTMLCanvasElement.prototype.getContext = function (kind, more) {
  return getContext.call(this, kind, { ...more, antialias: false });
};
"""


# presses, fields that were filled, and keys; not what stands for the device
COUNTING = """
if (self === top) {
  const one = ({ target }) => {
    if (!target.closest?.("#hand")) sessionStorage.acts = Number(sessionStorage.acts ?? 0) + 1;
  };
  const pressed = "button, a, summary, .mark, [type=checkbox], [type=radio], canvas";
  const typed = "select, textarea, input:not([type=checkbox], [type=radio])";
  document.addEventListener("click", (event) => event.isTrusted && event.target.closest?.(pressed) && one(event), true);
  document.addEventListener("change", (event) => event.target.matches(typed) && one(event), true);
  document.addEventListener("keydown", (event) => !event.target.matches?.(typed) && event.key !== "Shift" && one(event), true);
}
"""


def launched(playwright):
    """The browser, drawing its 3D in software."""
    browser = shutil.which("chromium-headless-shell") or shutil.which("chromium")
    return playwright.chromium.launch(executable_path=browser, args=CHROMIUM)


expect.set_options(timeout=20_000)
SIGNED_IN: dict = {}  # by address and person, the cookies: each signs in once


class Person:
    """What somebody does at the screen, in their words."""

    def __init__(self, chromium, running, login="tamsin", smooth=False, **more):
        self.running = running
        known = SIGNED_IN.get((running.url, login))
        self.context = chromium.new_context(
            viewport={"width": 1280, "height": 800}, accept_downloads=True, storage_state=known, **more
        )
        self.context.add_init_script(COUNTING)
        if not smooth:
            self.context.add_init_script(WITHOUT_SMOOTHING)
        self.hand_drawer("open")
        self.page = self.context.new_page()
        self.complaints: list[str] = []
        self.page.on("pageerror", lambda error: self.complaints.append(str(error)))
        self.page.set_default_timeout(20_000)
        self.page.goto(running.url)
        if "/sign-in" in self.page.url:
            self.page.fill("[name=login]", login)
            self.page.fill("[name=password]", PASSWORD)
            self.page.click("button[type=submit]")
            self.page.wait_for_url(running.url + "/")
            SIGNED_IN[running.url, login] = {"cookies": self.context.cookies(), "origins": []}

    def hand_drawer(self, how: str) -> None:
        """The drawer of the stand-in, "open" or "closed": on what is open now, and on pages that follow."""
        self.context.add_init_script(f"localStorage.setItem('stand-in-hand', '{how}')")
        drawer = self.page.locator("#hand") if self.context.pages else None
        if drawer is not None and drawer.count() and drawer.is_visible() != (how == "open"):
            self.page.keyboard.press("h")

    def open(self, job: int, stage: str = "measure") -> None:
        self.page.goto(f"{self.running.url}/jobs/{job}/{stage}")
        self.until(lambda: self.page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
        expect(self.page.locator("#tip-line")).to_contain_text("X")  # live events have come

    def leave(self) -> None:
        """To where nothing moves."""
        self.page.goto(self.running.url + "/")

    def until(self, true, seconds: float = 20.0):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            try:
                if found := true():
                    return found
            except Error as error:
                if "context was destroyed" not in str(error):  # the page was being loaded anew
                    raise
            self.page.wait_for_timeout(50)  # not a sleep: what the page tells is heard meanwhile
        raise AssertionError("it did not come to that", self.seen())

    def seen(self) -> list[str]:
        """The Now band and the notices."""
        return [each.inner_text() for each in self.page.locator("#now, .notice").all()]

    def read_in(self, units: str) -> None:
        """Choose the units: the page comes again in them, and what is clicked before would be lost."""
        with self.page.expect_navigation():
            self.page.select_option("[name=units]", units)

    def go(self, stage: str) -> None:
        """To a stage, once what was pressed before has been answered: its answer leads on, and would take this one's place."""
        expect(self.page.locator(".htmx-request")).to_have_count(0)
        with self.page.expect_response(lambda answer: answer.url.endswith(f"/{stage.lower()}")):
            self.page.click(f"nav >> text={stage}")
        expect(self.page.locator("nav [aria-current=page]")).to_have_text(stage)

    def unfold(self, words: str) -> None:
        """Press what stands folded until it is open: what lies above may grow under the pointer."""
        self.page.locator("details > summary", has_text=words).wait_for()
        folded = self.page.locator("details:not([open]) > summary", has_text=words)
        while folded.count():
            folded.click()

    def until_still(self) -> None:
        """Until no more hits come: the hand is off the surface."""
        seen, since = self.hits[0], time.monotonic()
        while time.monotonic() - since < 0.8:
            if self.hits[0] != seen:
                seen, since = self.hits[0], time.monotonic()
            self.page.wait_for_timeout(50)

    def until_hand_rests(self) -> None:
        """Until the stand-in has nothing left to do."""
        self.until(lambda: tell_hand({"do": "ask"})["busy"] == 0, 60)

    @property
    def hits(self) -> tuple[int, int]:
        taken, _, wanted = self.page.locator("#now .big .num").first.inner_text().partition("/")
        return int(taken), int(wanted or 0)

    def hand(self, words: str) -> None:
        """Press one of the hand's buttons, until it has heard."""
        with self.page.expect_response(lambda answer: "/hand/" in answer.url):
            self.page.locator(".hand").get_by_text(words, exact=True).click()

    def touch_row(self) -> None:
        """The stand-in touches what the row asks, until all hits are there."""
        self.hand("Touch what the row asks")
        self.until(lambda: self.hits[0] >= self.hits[1], 60)
        self.until_hand_rests()

    def measure(self, name: str) -> None:
        expect(self.page.locator("#now .say .ask")).to_contain_text(name)
        self.touch_row()
        self.hand("Finish")
        expect(self.row(name).locator(".mark")).not_to_have_text("○")

    def choose(self, *names: str) -> None:
        """These rows and no others, by their marks on the sheet."""
        if self.page.locator("#chosen").is_visible():
            self.page.click("#chosen >> text=Let go")
        for name in names:
            self.row(name).locator(".mark").click()
        expect(self.page.locator("#rows-frame .entry.chosen")).to_have_count(len(names))

    def row(self, name: str):
        return self.page.locator("#sheet-rows a.row", has=self.page.get_by_text(name, exact=True))

    def number(self, name: str, column: int) -> float:
        """Nominal (0), actual (1) or deviation (2) of a row, as shown."""
        return float(self.row(name).locator(".num").nth(column).inner_text().replace("−", "-"))

    @property
    def acts(self) -> int:
        """What was pressed, filled and keyed since the page was opened first; a pick is one."""
        return int(self.page.evaluate("Number(sessionStorage.acts ?? 0)"))

    def count_anew(self) -> None:
        self.page.evaluate("delete sessionStorage.acts")

    def pick(self, face: int, edge: int | None = None, point=(), normal=()) -> None:
        """Pick a face as the stage does when it is clicked, at a place of it or beside an edge."""
        self.page.evaluate("sessionStorage.acts = Number(sessionStorage.acts ?? 0) + 1")
        place = {"edge": edge, "point": ",".join(map(str, point)), "normal": ",".join(map(str, normal))}
        there = {name: value for name, value in place.items() if value not in (None, "")}
        self.page.evaluate("([face, place]) => window.zipplumb.pick(face, place)", [face, there])
