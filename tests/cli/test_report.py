"""The report as its readers see it.

In a real browser, by keyboard, without script, printed, on a telephone, light and dark; and held against an independent
checker of accessibility.
"""

from __future__ import annotations

import base64
import json
import re
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import Any

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.cli.test_history import Weeks, keep
from tests.cli.test_mend import folder
from tests.program import call

AXE = Path(sys.prefix) / "share" / "axe" / "package" / "axe.min.js"
HOSTILE = '<script>document.title="taken"</script><img src=x onerror=alert(1)>'
_FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update "
    "--disable-sync --window-size=1280,800"
)


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """A real browser of our own."""
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in (*_FLAGS.split(), f"--user-data-dir={tmp_path_factory.mktemp('browser')}"):
        options.add_argument(flag)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options, webdriver.ChromeService("/usr/bin/chromedriver"))
    driver.set_script_timeout(180)  # axe looks at every element, beside other tests
    try:
        yield driver
    finally:
        driver.quit()


def _opened(driver: Any, page: Path) -> None:
    driver.get_log("browser")
    driver.get(page.as_uri())


def _texts(driver: Any, column: int) -> list[str]:
    script = "return [...document.querySelectorAll('#drifts tbody tr')].filter(r => !r.hidden).map(r => r.cells[arguments[0]].textContent)"
    found: list[str] = driver.execute_script(script, column)
    return found


@pytest.fixture(scope="module")
def where(demo_made: Path, demo_plan: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo, with someone's name that a careless page would run; with a plan and the report."""
    where = tmp_path_factory.mktemp("report") / "northmere"
    shutil.copytree(demo_made, where)
    people = where / "snapshot" / "people.csv"
    people.write_text(people.read_text().replace("Asta Brandt", HOSTILE))
    shutil.copy(demo_plan, where)
    done = call("report", "--plan", "plan.json", cwd=where)
    assert done.status == 0, done.err
    return where


@pytest.fixture
def report(where: Path) -> Path:
    """The page."""
    return where / "report.html"


def test_the_page_works_and_asks_nobody(where: Path, report: Path, browser: Any) -> None:
    _opened(browser, report)
    found = json.loads(call("check", "--format", "json", cwd=where).out)
    drifts = [each for each in found["findings"] if each["verdict"] == "drifts"]
    lines = [each.text for each in browser.find_elements(By.CSS_SELECTOR, ".short p")]
    drifting = f"{found['summary']['drifting_people']} of {found['summary']['people']} people drift"
    assert lines[-1].startswith(f"1 break-glass account is locked out. {drifting}")
    labels = [each.text for each in browser.find_elements(By.CSS_SELECTOR, ".labelled dt")]
    assert labels[:2] == ["locked out", "locked out"] and {"open", "not known", "holes"} <= set(labels)
    assert "--show" not in browser.find_element(By.TAG_NAME, "main").text.partition("Where it comes from")[0]
    assert len(_texts(browser, 1)) == len(drifts)
    assert sorted(set(_texts(browser, 1))) == sorted({each["rule"] for each in drifts})
    # Names are text, nothing was fetched, and nothing complained.
    assert browser.title == "Meetings and sign-in against the baseline"
    assert HOSTILE in _texts(browser, 3) and browser.execute_script("return document.scripts.length") == 1
    assert not browser.find_elements(By.TAG_NAME, "img")
    assert browser.execute_script("return performance.getEntriesByType('resource').length") == 0
    assert browser.get_log("browser") == []
    # A press on a heading sorts, a second one the other way; severities by how bad they are, not by letter.
    buttons = browser.find_elements(By.CSS_SELECTOR, "#drifts th button")
    for number in (1, 2):
        buttons[number].click()
        assert _texts(browser, number) == sorted(_texts(browser, number), key=str.lower)
    buttons[0].send_keys(Keys.ENTER)
    assert list(dict.fromkeys(_texts(browser, 0))) == ["critical", "high", "medium", "low"]
    buttons[0].send_keys(Keys.SPACE)
    assert list(dict.fromkeys(_texts(browser, 0))) == ["low", "medium", "high", "critical"]
    sorted_by = browser.execute_script("return [...document.querySelectorAll('#drifts th')].map(h => h.ariaSort)")
    assert sorted_by == ["descending", *[None] * 8]
    # Every word that is written must stand in a row.
    browser.find_element(By.ID, "find").send_keys("fleet/deck cast-01")
    wanted = [each for each in drifts if each["rule"] == "CAST-01"]
    assert len(_texts(browser, 1)) == len(wanted) and set(_texts(browser, 1)) == {"CAST-01"}
    # … in every table of the page.
    numbers = browser.execute_script(
        "const rows = [...document.querySelectorAll('table.data tbody tr')];"
        "return [rows.filter(row => !row.hidden).length, rows.length]"
    )
    assert browser.find_element(By.ID, "found").text == f"{numbers[0]} of {numbers[1]} rows"
    assert len(wanted) < numbers[0] < len(wanted) + 10
    browser.find_element(By.ID, "all").click()
    assert len(_texts(browser, 1)) == len(drifts) and browser.find_element(By.ID, "find").get_attribute("value") == ""
    # A cell of the map leads to the findings behind it.
    link = browser.find_element(By.CSS_SELECTOR, "a[data-unit='/Fleet/Deck'][data-area='broadcast']")
    browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", link)
    link.click()
    behind = [each for each in drifts if each["rule"].startswith("CAST") and each["subject"]["type"] == "person"]
    assert set(_texts(browser, 4)) == {"/Fleet/Deck"} and len(set(_texts(browser, 2))) == round(
        float(link.text.removesuffix("%")) * 52 / 100
    )
    assert len(_texts(browser, 1)) == sum(each["rule"] == "CAST-01" for each in behind)
    assert browser.find_element(By.ID, "found").text == f"{len(_texts(browser, 1))} findings of Broadcasts, /Fleet/Deck"
    browser.find_element(By.ID, "all").click()


def test_a_name_opens_a_card(where: Path, report: Path, browser: Any) -> None:
    """It says all that the page finds about a person, and closes with Escape."""
    _opened(browser, report)
    found = json.loads(call("check", "--person", "N1172", "--format", "json", cwd=where).out)["findings"]
    rules = [each["rule"] for each in found if each["verdict"] == "drifts" and each["subject"]["id"] == "N1172"]
    name = browser.execute_script(
        "return [...document.querySelectorAll('#drifts td button')].find(b => b.textContent.startsWith('dagny.nerheim'))"
    )
    name.send_keys(Keys.ENTER)
    card = browser.find_element(By.ID, "card")
    assert card.is_displayed() and card.find_element(By.TAG_NAME, "h2").text == "dagny.nerheim@northmere.example"
    items = [each.text for each in card.find_elements(By.TAG_NAME, "li")]
    assert sorted(re.match(r"\w+ (\S+?)[ :]", item)[1] for item in items) == sorted(rules)  # type: ignore[index]
    assert all("It should be" in item or "It is" in item for item in items) and "What mends it" in items[0]
    browser.switch_to.active_element.send_keys(Keys.ESCAPE)
    assert not card.is_displayed()


def test_the_page_of_one_unit_speaks_to_its_head(where: Path, tmp_path: Path, browser: Any) -> None:
    for unit, own_words, others_words in (
        ("/Fleet", "the group Deck crews", ""),
        ("/Shore/Technology", "With 1 person (mfa)", "Shore offices (/Shore)"),
    ):
        call("report", "--unit", unit, "--out", tmp_path / "unit.html", cwd=where)
        _opened(browser, tmp_path / "unit.html")
        main = browser.find_element(By.TAG_NAME, "body").text
        assert f"{unit}: meetings and sign-in against the baseline" in main
        assert ("harbour-lamp-two" in main) == (unit != "/Fleet")
        own, _, others = main.partition("What you can do yourselves")[2].partition("What to ask the administrators")
        assert own_words in own and others_words in others and bool(others) == bool(others_words)
        assert all(each.startswith(unit) for each in set(_texts(browser, 4)) if each)


def test_what_is_not_known_has_a_section(report: Path, browser: Any) -> None:
    _opened(browser, report)
    part = browser.find_element(By.ID, "unknown")
    numbers = [int(each.text) for each in part.find_elements(By.CSS_SELECTOR, "tbody td:first-child")]
    assert part.text.splitlines()[1].startswith(f"{sum(numbers)} verdicts cannot be reached")
    assert "Give the licence" in part.text


def test_by_keyboard_alone(report: Path, browser: Any) -> None:
    _opened(browser, report)
    body = browser.find_element(By.TAG_NAME, "body")
    body.send_keys(Keys.TAB)
    skip = browser.switch_to.active_element
    assert skip.get_attribute("href").endswith("#short") and skip.is_displayed()
    reached, wanted = set[str](), {"a", "div", "find", "button"}
    for _ in range(200):
        browser.switch_to.active_element.send_keys(Keys.TAB)
        at = browser.switch_to.active_element
        reached.add(at.get_attribute("id") or at.tag_name)
        if wanted <= reached:
            return
    raise AssertionError(f"200 times Tab reaches {reached} only")


@pytest.mark.parametrize("scheme", ["light", "dark"])
@pytest.mark.parametrize("width", [1280, 390])
def test_nothing_stands_in_anybody_s_way(report: Path, browser: Any, scheme: str, width: int) -> None:
    size = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": width < 500}
    browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    browser.execute_cdp_cmd(
        "Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": scheme}]}
    )
    try:
        _opened(browser, report)
        seen = browser.execute_script("return getComputedStyle(document.body).backgroundColor")
        assert seen == {"light": "rgb(255, 255, 255)", "dark": "rgb(20, 24, 29)"}[scheme]
        assert browser.execute_script("return document.documentElement.scrollWidth") <= width
        browser.execute_cdp_cmd("Page.enable", {})
        browser.execute_cdp_cmd("Runtime.evaluate", {"expression": AXE.read_text()})  # beside the page's own policy
        shown = browser.execute_async_script("axe.run({resultTypes: ['violations']}).then(arguments[0])")
        assert shown["passes"]
        assert [(each["id"], [node["html"][:120] for node in each["nodes"][:3]]) for each in shown["violations"]] == []
        browser.execute_script("document.querySelector('#drifts td button').click()")
        shown = browser.execute_async_script("axe.run('#card', {resultTypes: ['violations']}).then(arguments[0])")
        assert shown["passes"] and [each["id"] for each in shown["violations"]] == []
    finally:
        browser.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
        browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})


def test_without_script_and_on_paper(report: Path, browser: Any) -> None:
    browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
    try:
        _opened(browser, report)
        assert len(browser.find_elements(By.CSS_SELECTOR, "#drifts tbody tr")) > 100
        assert not browser.find_element(By.CSS_SELECTOR, ".search").is_displayed()
        assert not browser.find_elements(By.CSS_SELECTOR, "#drifts th button")
    finally:
        browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})
    _opened(browser, report)
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    assert not browser.find_element(By.TAG_NAME, "nav").is_displayed()
    assert not browser.find_element(By.CSS_SELECTOR, ".search").is_displayed()
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})
    paper = base64.b64decode(browser.execute_cdp_cmd("Page.printToPDF", {"printBackground": True})["data"])
    assert paper.startswith(b"%PDF") and len(re.findall(rb"/Type\s*/Page\b", paper)) > 3
    browser.execute_script("document.getElementById('annex').remove()")
    paper = base64.b64decode(browser.execute_cdp_cmd("Page.printToPDF", {"printBackground": True})["data"])
    assert 2 < len(re.findall(rb"/Type\s*/Page\b", paper)) <= 8


def test_it_tells_how_it_has_gone_and_is_the_same_each_time(tmp_path: Path) -> None:
    where = folder(tmp_path)
    weeks = Weeks(where, Random(2))
    for _ in range(4):
        weeks.step()
        keep(where)
    weeks.step()
    for name in ("a.html", "b.html"):
        assert call("report", "--out", name, "--title", "A & <b>", cwd=where).status == 0
    text = (where / "a.html").read_text()
    assert text == (where / "b.html").read_text() and "<title>A &amp; &lt;b&gt;</title>" in text
    shown = json.loads(call("check", "--format", "json", cwd=where).out)["since"]
    assert f"Since {shown['from'][:10]}: {shown['new']} new, {shown['gone']} gone, {shown['back']} back" in text
    first, last = len(weeks.books[0][1]), len(weeks.books[-1][1])
    assert f"From {first} people who drift on {weeks.books[0][0][:10]} to {last} on {weeks.books[-1][0][:10]}." in text
    narrowed = call("report", "--person", "P1", "--out", "one.html", cwd=where)
    assert narrowed.status == 0, narrowed.err
    assert f"This page speaks of 1 person of {len(weeks.people)}." in (where / "one.html").read_text()


WRONG = [
    ("none.json", None, "none.json does not exist; write one with: usher-gate mend --format json --out none.json"),
    ("bad.json", "[1]", "bad.json:1: is no plan"),
    (
        "other.json",
        '{"taken_at": "2026-11-13T06:00:00Z"}',
        "is a plan for Northmere Ferries as of 2026-11-13T06:00:00Z, not for this",
    ),
    ("form.json", '{"usher-gate": "check/1"}', "form.json:1: is of the form 'check/1', not mending/1"),
    ("bad.yaml", "usher-gate: changes/1\ntitle: x\nchanges:\n  - jump: 3\n", "bad.yaml:4: "),
]


def test_plans_good_and_bad(where: Path, report: Path) -> None:
    text, whole = report.read_text(), json.loads((where / "plan.json").read_text())
    plan = whole["plan"]
    assert f"{plan['edits']} edits end {plan['ended']} of {plan['drifting']} findings: {plan['proof']}." in text
    changes = "changes/waiting-rooms.yaml"
    done = call("report", "--plan", changes, "--out", "with.html", cwd=where)
    assert done.status == 0, done.err
    changed = json.loads(call("rehearse", "--changes", changes, "--format", "json", cwd=where).out)["verdicts"]
    said = f"it ends {len(changed['ended'])} findings and begins {len(changed['begun'])}."
    assert said in (where / "with.html").read_text()
    for name, content, refused in WRONG:
        if content is not None:
            other = json.dumps({**whole, **json.loads(content)}) if content.startswith("{") else content
            (where / name).write_text(other)
        wrong = call("report", "--plan", name, "--out", "never.html", cwd=where)
        assert wrong.status == 2 and refused in wrong.err and not (where / "never.html").exists(), (name, wrong.err)


def test_a_history_that_cannot_be_used_costs_only_its_part(tmp_path: Path) -> None:
    where = folder(tmp_path)
    (where / "history.db").write_text("a letter")
    done = call("report", cwd=where)
    assert done.status == 0 and "the page does not show how it has gone: " in done.err and "not a database" in done.err
    text = (where / "report.html").read_text()
    assert 'id="short"' in text and 'id="trend"' not in text
