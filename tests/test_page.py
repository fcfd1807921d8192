"""The page in a browser: it asks for nothing, runs nothing of others, and shows the right numbers."""

import base64
import re
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import offing as of
from browser import Shown, browser
from handed_over import DATA, PLAN, N

HOSTILE = '</script><script>window.taken = 1</script><img src=x onerror="window.taken = 2">\u202e'


@pytest.fixture(scope="module")
def chromium():
    with browser() as found:
        yield found


def week_study(folder, name="ship", hostile=False):
    """A study of weeks with a driver, a scenario and a season."""
    weeks = pd.date_range("2021-01-04", periods=196, freq="W-MON")
    generator = np.random.default_rng(2)
    fare = 20.0 + generator.normal(0.0, 2.0, 196)
    sold = 500.0 + 60.0 * np.sin(np.arange(196) / 52.18 * 2 * np.pi) - 9.0 * fare + generator.normal(0.0, 12.0, 196)
    column = HOSTILE if hostile else "fare"
    table = pd.DataFrame({"week": weeks, "sold": sold.round(1), column: fare.round(2)})
    table.iloc[:183].to_csv(folder / "sales.csv", index=False)
    table.iloc[183:].drop(columns="sold").to_csv(folder / "plan.csv", index=False)
    key = column.replace("\\", "\\\\").replace('"', '\\"')
    text = f"""format = 1
title = "{key if hostile else name}"
[sources.sales]
file = "sales.csv"
[sources.plan]
file = "plan.csv"
plan_for = "sales"
[target]
data = "sales.sold"
[[terms]]
type = "trend"
[[terms]]
type = "season"
harmonics = 2
[[terms]]
type = "driver"
data = "sales.{key}"
[forecast]
horizon = 13
[scenarios.dearer]
drivers."{key}" = {{ percent = 20 }}
[stock]
"""
    (folder / "study.toml").write_text(text, encoding="utf-8")
    return of.open_study(folder / "study.toml")


@pytest.fixture(scope="module")
def weeks(tmp_path_factory):
    folder = tmp_path_factory.mktemp("weeks")
    study = week_study(folder)
    (file,) = of.export(study, "page", folder)
    return study, file


@pytest.fixture
def shown(chromium, weeks):
    found = Shown(chromium, weeks[1], viewport={"width": 1280, "height": 800}, color_scheme="light")
    yield found
    assert found.outside == []
    assert found.complaints == []
    found.page.context.close()


def test_the_first_screen_says_what_matters(shown, weeks):
    ahead = weeks[0].forecasts["main"]
    lead = shown.page.inner_text("#lead")
    assert "on average in the 13 weeks from" in lead
    assert "What moves it most" in lead
    assert "How accurate it was before" in lead
    average = f"{ahead.mean.mean():,.0f}"
    assert average in lead.replace("\u2009", "")
    assert set(shown.data("stacks")["term"]) >= {"trend", "season", "fare"}, "what it is made of is there at once"
    titles = shown.page.locator("#contents li").all_inner_texts()
    for wanted in ("Why it differs from last year", "What each driver does", "Scenarios", "How much is enough",
                   "How good past forecasts were", "Findings", "Changes to the data", "The numbers"):  # fmt: skip
        assert wanted in titles
    assert shown.page.locator("#study pre").inner_text().startswith("format = 1")


def test_hovering_shows_the_value_its_interval_and_its_contributions(shown, weeks):
    ahead = weeks[0].forecasts["main"]
    shown.page.get_by_role("button", name="Forecast only").click()
    shown.page.wait_for_timeout(300)
    at = shown.page.evaluate(
        """i => { const doc = Bokeh.documents[0], fan = doc.get_model_by_name("fan"), data = doc.get_model_by_name("ahead").data;
        const view = Bokeh.index.find_one_by_id ? Bokeh.index.find_one_by_id(fan.id) : Bokeh.index.get_by_id(fan.id);
        const box = view.el.getBoundingClientRect();
        return [box.left + view.frame.x_scale.compute(data.t[i]), box.top + view.frame.y_scale.compute(data.mean[i])]; }""",
        6,
    )
    shown.page.mouse.move(*at)
    tip = shown.page.locator(".hover").filter(visible=True).first
    tip.wait_for(timeout=3000)
    text = tip.inner_text()
    assert ahead.axis.labels()[6] in text
    value = float(re.search(r"sold: ([\d,.]+)", text)[1].replace(",", ""))
    assert value == pytest.approx(ahead.mean[6], rel=2e-4)
    low, high = (float(each.replace(",", "")) for each in re.search(r": ([\d,.]+) to ([\d,.]+)", text).groups())
    assert [low, high] == pytest.approx(ahead.table.iloc[6][["q0.025", "q0.975"]].tolist(), rel=2e-4)
    found = dict(zip(ahead.contributions.labels, ahead.contributions.values[1:, 6], strict=True))
    for label, amount in found.items():
        sign, size = re.search(rf"([+−])([\d,.]+)  {label}", text).groups()
        assert float(size.replace(",", "")) * (1 if sign == "+" else -1) == pytest.approx(amount, abs=0.06)


def test_ranges_zoom_and_keys_move_both_charts_together(shown):
    whole = shown.data("past")["t"]
    shown.page.get_by_role("button", name="All", exact=True).click()
    start, end = shown.range()
    assert start <= whole[0]
    shown.page.get_by_role("button", name="One season").click()
    one = shown.range()
    assert one[1] == end
    assert (end - one[0]) / 604_800_000 == pytest.approx(52 + 13, abs=1.5)
    box = shown.page.locator("#charts").bounding_box()
    shown.page.mouse.move(box["x"] + 600, box["y"] + 200)
    shown.page.mouse.wheel(0, -300)
    shown.page.wait_for_timeout(400)
    closer = shown.range()
    assert closer[1] - closer[0] < one[1] - one[0]
    shown.page.get_by_role("button", name="Later").press("Enter")
    later = shown.range()
    assert later[0] > closer[0]
    shown.page.get_by_role("button", name="Farther").press("Space")
    assert shown.range()[1] - shown.range()[0] == pytest.approx(2.0 * (later[1] - later[0]))
    assert shown.page.evaluate(
        "() => { const doc = Bokeh.documents[0]; return doc.get_model_by_name('fan').x_range === doc.get_model_by_name('bars').x_range; }"
    )


def test_scenarios_are_switched_and_terms_are_toggled(shown, weeks):
    found = weeks[0].what_if["main"]
    shown.page.select_option("#scenario", label="dearer")
    np.testing.assert_allclose(shown.data("ahead")["mean"], found.of("dearer").mean, rtol=1e-5)
    before = shown.data("stacks")
    shown.page.get_by_label("fare").uncheck()
    after = shown.data("stacks")
    assert "fare" in before["term"]
    assert "fare" not in after["term"]
    total = shown.data("totals")["total"][-13:]
    rows = found.of("dearer").contributions
    kept = [values for name, values in zip(rows.rows, rows.values, strict=True) if name not in ("baseline", "fare")]
    np.testing.assert_allclose(total, np.sum(kept, axis=0), rtol=1e-4, atol=1e-2)


@pytest.mark.parametrize(("kind", "begins"), [("png", b"\x89PNG"), ("svg", b"<svg")])
def test_charts_and_pictures_are_saved_without_a_network(shown, kind, begins):
    for button in (
        f"[data-save=fan][data-as={kind}]",
        f"[data-save=bars][data-as={kind}]",
        f"[data-picture={kind}] >> nth=0",
    ):
        with shown.page.expect_download(timeout=10_000) as download:
            shown.page.locator(button).click()
        content = Path(download.value.path()).read_bytes()
        assert begins in content[:400]
        assert len(content) > 3_000


def test_the_table_is_sorted_and_copied_as_csv(shown, weeks):
    ahead = weeks[0].forecasts["main"]
    table = shown.page.locator("table", has=shown.page.get_by_role("button", name="q0.975", exact=True)).first
    table.get_by_role("button", name="forecast", exact=True).click()
    values = [float(each.replace(",", "")) for each in table.locator("tbody tr td:nth-child(3)").all_inner_texts()]
    assert values == sorted(values)
    assert table.locator("th").nth(2).get_attribute("aria-sort") == "ascending"
    with shown.page.expect_download() as download:
        shown.page.locator(".table", has=table).get_by_role("button", name="CSV").click()
    rows = pd.read_csv(download.value.path()).sort_values("period")
    np.testing.assert_allclose(rows["forecast"], ahead.mean, rtol=1e-12)


def test_dark_narrow_and_print(chromium, weeks):
    dark = Shown(chromium, weeks[1], viewport={"width": 390, "height": 800}, color_scheme="dark")
    assert dark.page.evaluate("document.documentElement.scrollWidth") <= 390
    assert dark.page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(22, 28, 34)"
    assert dark.page.evaluate("Bokeh.documents[0].get_model_by_name('fan').background_fill_color") == "#161c22"
    dark.page.emulate_media(media="print")
    assert dark.page.locator(".controls").is_hidden()
    assert dark.complaints == []
    dark.page.context.close()


def test_hostile_names_do_nothing(chromium, tmp_path):
    """A planted script does not run, wherever a name of the data stands."""
    study = week_study(tmp_path, hostile=True)
    (file,) = of.export(study, "page", tmp_path)
    found = Shown(chromium, file, viewport={"width": 1000, "height": 800})
    assert found.page.evaluate("window.taken") is None
    assert "<script>window.taken" in found.page.inner_text("#terms"), "it stands there as a text"
    found.page.mouse.move(600, 500)
    found.page.wait_for_timeout(300)
    assert found.page.evaluate("window.taken") is None
    assert found.outside == []
    assert found.dialogs == []
    assert found.page.locator("img[src=x]").count() == 0
    found.page.context.close()


def test_the_policy_lets_nothing_else_run(chromium, weeks, tmp_path):
    text = weeks[1].read_text(encoding="utf-8")
    policy = re.search(r'Content-Security-Policy" content="([^"]*)"', text)[1]
    assert policy.startswith("default-src &#39;none&#39;; script-src &#39;sha256-")
    assert "unsafe-eval" not in policy
    assert "http" not in policy
    planted = tmp_path / "planted.html"
    planted.write_text(text.replace("</main>", "<script>window.taken = 1</script></main>"), encoding="utf-8")
    found = Shown(chromium, planted, viewport={"width": 1000, "height": 800})
    assert found.page.evaluate("window.taken") is None
    assert any("Content Security Policy" in each for each in found.complaints)
    found.page.context.close()


def test_the_same_study_gives_the_same_bytes(weeks, tmp_path):
    study, file = weeks
    (again,) = of.export(of.open_study(study.path), "page", tmp_path)
    assert again.read_bytes() == file.read_bytes()


def test_five_years_of_days_are_there_without_a_hang(chromium, tmp_path):
    days = pd.date_range("2019-01-01", periods=5 * 365 + 60, freq="D")
    generator = np.random.default_rng(1)
    data = pd.DataFrame(
        {"sold": 50.0 + generator.normal(size=len(days)), "rain": generator.normal(size=len(days))}, days
    )
    cut = 5 * 365
    terms = [of.Trend(), of.Season("week"), of.Season("year", harmonics=3), of.Driver("rain")]
    ahead = of.Model("sold", terms).fit(data.iloc[:cut]).forecast(60, plan=data.iloc[cut:].drop(columns="sold"))
    (file,) = of.export(ahead, "page", tmp_path)
    started = time.perf_counter()
    found = Shown(chromium, file, viewport={"width": 1280, "height": 800})
    assert time.perf_counter() - started < 10.0, "a hang: how long it takes is measured by benchmarks"
    assert len(found.data("past")["t"]) == cut
    assert found.complaints == []
    found.page.context.close()


def test_a_hundred_series_are_in_one_page(chromium, tmp_path):
    months = pd.period_range("2019-01", periods=60, freq="M").astype(str)
    generator = np.random.default_rng(0)
    rows = [
        pd.DataFrame({"month": months, "port": f"port {i:03d}", "sold": 20.0 + i + generator.normal(size=60).cumsum()})
        for i in range(100)
    ]
    pd.concat(rows).to_csv(tmp_path / "ports.csv", index=False)
    text = 'format = 1\n[sources.ports]\nfile = "ports.csv"\nid = "port"\n[target]\ndata = "ports.sold"\n[[terms]]\n'
    (tmp_path / "study.toml").write_text(f'{text}type = "trend"\n[forecast]\nhorizon = 6\n[backtest]\norigins = 2\n')
    study = of.open_study(tmp_path / "study.toml")
    (file,) = of.export(study, "page", tmp_path)
    assert file.stat().st_size < 15e6
    found = Shown(chromium, file, viewport={"width": 1280, "height": 800})
    found.page.fill("#search", "port 042")
    lines = [each for each in found.page.locator("#overview tbody tr").all() if each.is_visible()]
    assert len(lines) == 1
    lines[0].get_by_role("button").click()
    assert "port 042" in found.page.inner_text("#unit-name")
    np.testing.assert_allclose(
        found.data("ahead")["mean"],
        next(each.mean for each in study.forecasts.values() if each.fit.series == "port 042"),
        rtol=1e-5,
    )
    found.page.fill("#search", "")
    found.page.locator("#overview").get_by_role("button", name="total").click()
    totals = [
        float(each.replace(",", "")) for each in found.page.locator("#overview tbody td:nth-child(2)").all_inner_texts()
    ]
    assert totals == sorted(totals)
    assert found.complaints == []
    found.page.context.close()


def test_one_forecast_without_a_study_or_a_driver(chromium, tmp_path):
    ahead = of.Model("sold", [of.Season()], "log").fit(DATA["sold"].iloc[:N]).forecast(6)
    (file,) = of.export(ahead, "page", tmp_path)
    found = Shown(chromium, file)
    assert found.page.locator("#study").count() == 0
    assert found.page.locator("#scenario-label").is_hidden()
    np.testing.assert_allclose(found.data("ahead")["mean"], ahead.mean, rtol=1e-5)
    found.page.context.close()


def test_a_missing_extra_is_said_in_one_line(tmp_path, monkeypatch):
    ahead = of.Model("sold").fit(DATA["sold"].iloc[:N]).forecast(2, plan=PLAN)
    monkeypatch.setitem(sys.modules, "bokeh.plotting", None)
    with pytest.raises(of.InputError, match=r"needs the package 'bokeh'.* pip install 'offing\[report\]'"):
        of.export(ahead, "page", tmp_path)
    assert not list(tmp_path.iterdir())


def test_pictures_are_images_and_no_markup(weeks):
    """Pictures stand in the page as addresses of their own, so that nothing in them is part of the page."""
    text = weeks[1].read_text(encoding="utf-8")
    pictures = re.findall(r'src="data:image/svg\+xml;base64,([^"]+)"', text)
    assert len(pictures) > 5
    assert all(b"<svg" in base64.b64decode(each) for each in pictures)
    assert "<svg" not in re.sub(r"<script.*?</script>", "", text, flags=re.DOTALL)
