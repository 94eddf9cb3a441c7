"""The guide's path: the poor supply point is found, why it is poor, what to build, and what the plans cost."""

from __future__ import annotations

import json
import re
import urllib.request
from collections.abc import Callable

from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.conftest import call, open_bench
from tests.browser.test_accessibility import violations
from tests.browser.test_bench import card
from tests.browser.test_harmonics import chosen, run
from tests.core.test_planning import town
from vastmesh.core.network import Plan, Remove, Scheme, Update
from vastmesh.exchange import write_document


def figure(bench: Page, option: str, value: str) -> None:
    box = bench.locator(f"form [data-option={option}] input")
    box.fill(value)
    box.press("Enter")


def test_the_poor_supply_point_is_found_told_and_cured(bench: Page) -> None:
    show(bench, "Interruptions")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text(re.compile("Worst is Tollgate demand with 17.* hours"))
    expect(bench.get_by_test_id("figure-causes")).to_be_visible()
    assert violations(bench) == []
    story = bench.get_by_role("group", name="step by step on the sheet")
    story.get_by_role("button").nth(1).click()
    banner = bench.get_by_role("status").filter(has_text="Story of 33 kV to Saltern, 0:08")
    expect(banner).to_be_visible()
    expect(bench.get_by_test_id("badge")).to_contain_text("trying")
    banner.get_by_role("button", name="Back to the whole network").click()
    expect(bench.get_by_test_id("badge")).to_contain_text("solved")
    bench.get_by_role("button", name=re.compile("more tables", re.IGNORECASE)).first.click()
    bench.get_by_role("option", name="Where it comes from").click()
    expect(bench.get_by_role("grid")).to_contain_text("33 kV to Fennick")
    bench.get_by_role("button", name="Causes", exact=True).click()
    tree = bench.get_by_role("region", name="Where it comes from, as a tree")
    expect(tree.locator("> details")).not_to_have_count(0)
    tree.get_by_text("Line", exact=True).first.click()
    tree.get_by_role("button", name=re.compile("^33 kV to")).first.click()
    expect(bench.get_by_role("heading", name=re.compile("^33 kV to")).first).to_be_visible()
    tree.get_by_role("button", name=re.compile("^show all")).first.click()
    expect(card(bench)).to_contain_text(re.compile(r"\d+ elements|selected"))
    assert violations(bench) == []
    with bench.expect_download(timeout=120_000) as printed:
        bench.get_by_role("button", name="PDF of Interruptions").click()
    assert printed.value.suggested_filename == "Interruptions.pdf"
    assert printed.value.path().read_bytes().startswith(b"%PDF")

    show(bench, "Proposals")
    figure(bench, "most", "6")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("worth")
    bench.get_by_role("button", name="Make it a scheme").click()
    expect(bench.get_by_role("tab", name="Schemes", selected=True)).to_be_visible()
    assert violations(bench) == []


def test_plans_stand_side_by_side_and_a_case_is_shown(bench: Page) -> None:
    show(bench, "Board")
    for option, value in (("of", "plans"), ("conditions", "present"), ("outages", "no"), ("interruptions", "none")):
        chosen(bench, option, value)
    figure(bench, "every", "5")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("As it is, limits are broken from 2026 on")
    expect(bench.get_by_test_id("figure-cost")).to_be_visible()
    assert violations(bench) == []
    bench.get_by_role("button", name="Show on the sheet").click()
    bench.get_by_role("option", name="Everybody, 2031").click()
    banner = bench.get_by_role("status").filter(has_text="With the demand of 2031")
    expect(banner).to_be_visible()
    banner.get_by_role("button", name="Back to today").click()
    bench.get_by_role("button", name="Limits broken", exact=True).click()
    cells = bench.get_by_test_id("figure-breaches")
    cells.focus()
    bench.keyboard.press("ArrowRight")
    bench.keyboard.press("Enter")
    expect(bench.get_by_role("status").filter(has_text="With the demand of 2026")).to_be_visible()
    bench.get_by_role("button", name="Back to today").click()
    expect(bench.get_by_test_id("badge")).to_contain_text("solved")


def test_a_best_plan_of_proposals_is_kept_with_the_schemes_that_it_needs(
    new_page: Callable[..., Page], server: str
) -> None:
    """A line that is too weak and no scheme yet: proposals stand in the plan and become schemes with it."""
    net = town()
    net.apply([Remove(id=s.id) for s in (*net.of(Plan), *net.of(Scheme))])
    net.apply([Update(id="load-e", values={"active_power_mw": 2.6, "reactive_power_mvar": 1.2})])
    data = write_document(net, "Weak line")
    made = urllib.request.Request(f"{server}/api/projects/import?file_name=weak.json", data, method="POST")
    with urllib.request.urlopen(made, timeout=60) as answer:
        project = json.load(answer)["project"]["id"]
    page = new_page()
    open_bench(page, server, project)
    show(page, "Best plan")
    for option, value in (("conditions", "present"), ("method", "exact")):
        chosen(page, option, value)
    for option, value in (("years", "4"), ("every", "2"), ("proposals", "3")):
        figure(page, option, value)
    run(page)
    page.get_by_role("button", name="Make it a plan").click()
    expect(page.get_by_text("Best plan stands on the board and among the plans of the model.")).to_be_visible()
    items = {i["id"]: i for i in call(f"{server}/api/projects/{project}")["items"]}
    steps = items["Best plan"]["steps"]
    assert steps
    for step in steps:
        scheme = items[step["scheme"]]
        assert scheme["kind"] == "scheme"
        assert scheme["changes"]


def test_simulated_years_and_adequacy_have_their_pages(bench: Page) -> None:
    show(bench, "Years of failures")
    figure(bench, "years", "300")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("300 years: SAIDI is")
    expect(bench.get_by_test_id("figure-spread")).to_be_visible()
    show(bench, "Adequacy")
    figure(bench, "supply_mw", "60")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("Demand is not covered in")
    assert violations(bench) == []
