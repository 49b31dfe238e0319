"""What somebody does on the pages of the kit."""

from __future__ import annotations

from playwright.sync_api import expect


class Kit:
    """What a person does on the pages of the kit."""

    def __init__(self, person):
        self.person, self.page = person, person.page
        self.page.goto(f"{person.running.url}/instruments")

    def room(self, word):
        self.page.click(f"nav >> text={word}")

    def probe(self, name):
        self.room("Probes")
        self.page.click(f".probe-line >> text={name}")

    def begin(self, kind, **fields):
        form = f"form:has(input[name=kind][value={kind}]) "
        for name, value in fields.items():
            field = self.page.locator(f"{form}[name={name}]")
            field.select_option(value) if field.evaluate("e => e.tagName") == "SELECT" else field.fill(value)
        self.page.locator(f"{form}button", has_text="Begin").first.click()

    def hand(self, words):
        with self.page.expect_response(lambda answer: answer.request.method == "POST"):  # done, before the next is told
            self.page.locator(".kit-hand").get_by_role("button", name=words, exact=True).click()

    def ask(self):
        return self.page.locator(".trial .ask")

    def why(self):
        return self.page.locator(".trial .why")

    def taken(self):
        return int(self.page.locator(".trial .now .big .num").first.inner_text().split("/")[0])

    def until_taken(self, count, seconds=90):
        self.person.until(lambda: self.taken() >= count, seconds)

    def ended(self, state):
        expect(self.page.locator(f".trial[data-state={state}]")).to_be_visible(timeout=15000)
