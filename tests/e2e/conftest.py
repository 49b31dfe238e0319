"""A person in front of the application: a real browser, and the stand-in's hand."""

from __future__ import annotations

import json

import pytest
from person import Person, launched
from playwright.sync_api import sync_playwright


@pytest.fixture(scope="session")
def running(stack):
    stack.start()
    stack.wait_for_web()
    return stack


@pytest.fixture(scope="session")
def chromium():
    with sync_playwright() as playwright:
        browser = launched(playwright)
        yield browser
        browser.close()


@pytest.fixture
def tamsin(chromium, running):
    person = Person(chromium, running)
    yield person
    person.context.close()
    assert person.complaints == []


@pytest.fixture(scope="session")
def truth(running):
    """What only the stand-in knows: for comparing, never for the application."""
    return json.loads((running.folder / "real.json").read_text())
