"""Is it good: tolerances chosen by looking, and by the form, on the stand-ins' part; against what only these know."""

from carrier_bench import TECHNICIAN
from playwright.sync_api import expect

from zipplumb.demo import carrier
from zipplumb.jobs.plan import adding, sheet

LIMITS = {"asked.diameter.on": "1", "asked.diameter.lower": "-0.2", "asked.diameter.upper": "0.2", "asked.first": "diameter"}


def test_chosen_by_looking_and_by_the_form_with_a_bonus(tamsin, bench):
    here = bench("Tolerances")
    page = here.page
    here.datums()
    for k, (x, y) in enumerate(((-1, -1), (1, -1)), start=1):
        row = here.planned(f"Hole {k}", here.hole(carrier.BOLT, x * carrier.BOLT_X, y * carrier.BOLT_Y), 9)
        sheet.edit_row(TECHNICIAN, here.job, row, LIMITS)
    here.measure("Top", "Side", "End", "Hole 1", "Hole 2")
    here.road("A drawing with datums A, B, C")
    page.get_by_role("button", name="Align to A, B, C").click()
    expect(page.locator("#now .active")).to_contain_text("0 spare")

    tamsin.go("Derive")
    tamsin.choose("Side", "Top")
    square = page.locator(".choice", has_text="Perpendicularity of Side to Top")
    expect(square).to_contain_text("type its tolerance")
    page.fill("[name=zone]", "-1")
    page.locator("[name=zone]").press("Tab")
    expect(page.locator("#choices")).to_contain_text("A tolerance is a length above zero.")
    page.fill("[name=zone]", "0.5")
    page.locator("[name=zone]").press("Tab")
    expect(square).to_contain_text("● in")
    square.get_by_role("button", name="Add").click()
    found = tamsin.row("Perpendicularity 1")
    expect(found.locator(".mark")).to_have_text("●")

    page.get_by_text("A tolerance with datums A, B, C").click()
    form = page.locator(".typed-form")
    form.locator("[name='of.0']").select_option(str(here.rows["Hole 1"]))
    form.locator("[data-more]").first.click()
    form.locator("[name='of.1']").select_option(str(here.rows["Hole 2"]))
    form.locator("[name=zone_mm]").fill("0.02")
    form.locator("[name=condition]").select_option("maximum")
    form.get_by_role("button", name="Plan this").click()
    found = tamsin.row("Position 1")
    expect(found.locator(".mark")).not_to_have_text("○")
    found.click()
    slip = page.locator("#slip")
    expect(slip).to_contain_text("The zone is larger by")
    expect(slip).to_contain_text("is worst at X")
    expect(slip.locator(".characteristics tr")).to_have_count(4)  # the worst, and each of the two

    adding.plan_typed(TECHNICIAN, here.job, "position", {"of.0": str(here.rows["Top"]), "zone_mm": "0.1", "condition": "least"})
    failed = tamsin.row("Position 2")
    failed.click()
    expect(slip).to_contain_text("so there is no material condition")
