"""Whether a model still holds: sequential tests against independent arithmetic, verdicts, scores and exit statuses."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.engine.change_detection import bounds, recursive_residuals, scan_spread, scan_sums
from test_saved import STUDY, data_of, study  # noqa: F401  the fixture

MONTHS = pd.period_range("2018-01", periods=96, freq="M")
FITTED = 72


def sales(seed=3, step=0.0, slope=0.0, spread=1.0, scale=1.0):
    """Sales with a driver, which change from the 80th month on."""
    generator = np.random.default_rng(seed)
    fare, noise, later = generator.normal(20.0, 1.0, 96), generator.normal(0.0, 1.0, 96), np.arange(96) >= 80
    sold = (
        200.0 - 2.0 * fare + noise * np.where(later, spread, 1.0) + np.where(later, step + slope * (fare - 20.0), 0.0)
    )
    return pd.DataFrame({"sold": sold * scale, "fare": fare}, MONTHS)


def fitted(data, **stated):
    return of.Model("sold", [of.Driver("fare")], **stated).fit(data.iloc[:FITTED])


def test_recursive_residuals_are_those_of_fits_to_ever_more_rows():
    data = sales()
    found = of.monitor(fitted(data), data).residuals
    x, y = np.column_stack([np.ones(96), data["fare"]]), data["sold"].to_numpy()
    variance = fitted(data).estimate.variance
    for i, n in enumerate(range(FITTED, 96)):
        beta, *_ = np.linalg.lstsq(x[:n], y[:n])
        size = 1.0 + x[n] @ np.linalg.inv(x[:n].T @ x[:n]) @ x[n]
        assert found[i] == pytest.approx((y[n] - x[n] @ beta) / np.sqrt(size * variance), rel=1e-8)


def test_scans_look_at_every_stretch():
    generator = np.random.default_rng(1)
    w, x = generator.normal(size=30), generator.normal(size=30)
    level, effect, spread = scan_sums(w), scan_sums(w, x), scan_spread(w)
    for end in range(1, 30):
        stretches = [(w[k : end + 1], x[k : end + 1]) for k in range(end)]
        assert level.statistic[end] == pytest.approx(max(abs(a.sum()) / np.sqrt(len(a)) for a, _ in stretches))
        centred = [(a, b - b.mean()) for a, b in stretches]
        assert effect.statistic[end] == pytest.approx(max(abs(a @ b) / np.sqrt(b @ b) for a, b in centred))
        long = [a for a, _ in stretches if len(a) >= 6]
        variances = [np.var(a, ddof=1) for a in long]
        wild = [np.sqrt((len(a) - 1) * (v - 1.0 - np.log(v))) for a, v in zip(long, variances, strict=True)]
        assert spread.statistic[end] == pytest.approx(max(wild, default=0.0))
    assert recursive_residuals(fitted(sales()).estimate, np.zeros((0, 3))).shape == (0,)


def test_bounds_are_passed_by_chance_as_rarely_as_stated():
    """Noise of other seeds than the bounds come from: 2, 1.2 and 0.8 % of paths."""
    limit, generator = bounds(24, 70.0, 1), np.random.default_rng(9)
    passed = np.zeros(3)
    for _ in range(2000):
        w = generator.normal(size=24) / np.sqrt(generator.chisquare(70.0) / 70.0)
        x = generator.normal(size=24)
        scans = (scan_sums(w), limit.level), (scan_sums(w, x), limit.coefficient), (scan_spread(w), limit.spread)
        passed += [scan.alarm(bound) is not None for scan, bound in scans]
    shares = passed / 2000
    assert (shares <= np.array([0.02, 0.012, 0.008]) + 3.0 * np.sqrt(0.02 / 2000)).all(), shares
    assert shares[0] > 0.01, "a bound that is never passed finds nothing"


@pytest.mark.parametrize(
    ("change", "verdict", "kind", "words"),
    [
        ({}, "keep", None, "Keep: in 24 months since 2024-01 values of sold came as the model expects."),
        ({"step": 4.0}, "rethink", "level", "above what the model expects"),
        ({"step": -4.0}, "rethink", "level", "below what the model expects"),
        ({"slope": 3.0}, "update", "coefficient", "the effect of 'fare' is"),
        ({"spread": 4.0}, "update", "spread", "times as large as the model states"),
    ],
    ids=str,
)
def test_each_change_has_its_verdict(change, verdict, kind, words):
    data = sales(**change)
    found = of.monitor(fitted(data), data)
    assert found.verdict == verdict
    assert words in str(found).replace("\n  ", " ")
    if kind is None:
        assert found.alarms == ()
        return
    alarm = found.alarms[0]
    assert alarm.kind == kind
    assert "2024-06" <= alarm.since <= "2024-12", "the change is in September"
    assert alarm.since <= alarm.found
    truth = {"level": change.get("step"), "coefficient": change.get("slope"), "spread": change.get("spread")}[kind]
    assert alarm.size == pytest.approx(truth, rel=0.3)


def test_a_step_counts_what_noise_carries_on_and_the_scale():
    """Of a step only a part is unexpected a period later; on the log scale it is a share."""
    generator, later = np.random.default_rng(5), np.arange(96) >= 80
    noise = generator.normal(0.0, 0.02, 96)
    for t in range(1, 96):
        noise[t] += 0.5 * noise[t - 1]
    data = pd.DataFrame({"sold": np.exp(5.0 + noise + np.where(later, np.log(0.8), 0.0))}, MONTHS)
    fit = of.Model("sold", scale="log", errors="ar").fit(data.iloc[:FITTED])
    found = of.monitor(fit, data)
    alarm = found.alarms[0]
    assert alarm.kind == "level"
    assert alarm.since in ("2024-08", "2024-09")
    assert np.expm1(alarm.size) == pytest.approx(-0.2, abs=0.04)
    assert "% below" in found.sentence


def test_monitoring_from_a_saved_model_is_the_same(tmp_path):
    data = sales(step=3.0)
    fit = fitted(data)
    fit.save(tmp_path / "m.json")
    one, other = of.monitor(fit, data), of.monitor(of.load(tmp_path / "m.json"), data.iloc[FITTED:])
    np.testing.assert_array_equal(one.residuals, other.residuals)
    assert one.alarms == other.alarms


def test_archived_forecasts_are_scored_beside_references_and_others(tmp_path):
    data, kept = sales(), of.archive(tmp_path / "kept.sqlite")
    model = of.Model("sold", [of.Driver("fare")])
    made = {}
    for n in (72, 78):
        ahead = model.fit(data.iloc[:n]).forecast(3, plan=data[["fare"]].iloc[n : n + 3])
        adjusted = of.adjust_forecast(ahead, [of.Adjustment(str(MONTHS[n]), amount=5.0, reason="a fair", author="Ida")])
        kept.append([ahead, adjusted])
        made[n] = ahead.table
    rows = [(str(MONTHS[n].to_timestamp().date()), str(MONTHS[n + 1]), 150.0) for n in made]
    outside = of.external_forecast(pd.DataFrame(rows, columns=["origin", "period", "forecast"]), "harbour office")
    found = of.monitor(fitted(data), data, archive=kept, external=[outside])
    actual = data["sold"].to_numpy()
    errors = np.concatenate([actual[n : n + 3] - table["forecast"] for n, table in made.items()])
    whole = found.table.query("horizon == 'all'").set_index("by")
    assert whole.loc["main", "MAE"] == pytest.approx(np.abs(errors).mean())
    assert whole.loc["main", "RMSE"] == pytest.approx(np.sqrt((errors**2).mean()))
    assert whole.loc["main", "bias"] == pytest.approx(errors.mean())
    inside = sum(((actual[n : n + 3] >= t["q0.1"]) & (actual[n : n + 3] <= t["q0.9"])).sum() for n, t in made.items())
    assert whole.loc["main", "inside80"] == pytest.approx(inside / 6)
    by_hand = np.concatenate([errors[:1] - 5.0, errors[1:3], errors[3:4] - 5.0, errors[4:]])
    assert whole.loc["main (by hand)", "MAE"] == pytest.approx(np.abs(by_hand).mean())
    last = np.concatenate([actual[n : n + 3] - actual[n - 1] for n in made])
    assert whole.loc["reference: last value", "MAE"] == pytest.approx(np.abs(last).mean())
    year = np.concatenate([actual[n : n + 3] - actual[n - 12 : n - 9] for n in made])
    assert whole.loc["reference: year before", "MAE"] == pytest.approx(np.abs(year).mean())
    other = np.array([actual[n + 1] - 150.0 for n in made])
    assert whole.loc["harbour office", "MAE"] == pytest.approx(np.abs(other).mean())
    assert found.table.query("by == 'main' and horizon == '2'")["forecasts"].item() == 2
    assert found.table.query("by == 'harbour office'")["horizon"].tolist() == ["all", "2"]


def test_the_command_ends_with_its_verdict(study, run_cli):  # noqa: F811  the fixture
    """0 keep, 4 rethink, 2 where there is nothing to watch; files, figure and JSON."""
    file = study / "study.toml"
    file.write_text(f'{STUDY}\n[archive]\nfile = "kept.sqlite"\n')
    ran = run_cli("monitor", file)
    assert ran.status == 2
    assert "holds no forecast by the model 'main'" in ran.err
    assert run_cli("forecast", file).status == 0
    ran = run_cli("monitor", file)
    assert ran.status == 2
    assert "no value of the target has come after 2024-06-24" in ran.err
    tickets, newer = pd.read_csv(study / "tickets.csv"), pd.read_csv(study / "newer.csv")
    pd.concat([tickets, newer]).to_csv(study / "tickets.csv", index=False)
    ran = run_cli("monitor", file, "--out", study / "out")
    assert ran.status == 0, ran.err
    assert "Keep: in 10 weeks since 2024-07-01" in ran.out
    assert {"monitoring.csv", "watched.csv", "monitoring.png", "run.json"} < {
        each.name for each in (study / "out").iterdir()
    }
    watched = pd.read_csv(study / "out" / "watched.csv")
    assert watched.columns.tolist() == ["series", "model", "scenario", "period", "error", "level", "effects", "spread"]
    assert len(watched) == 10
    pd.concat([tickets, newer.assign(sold=newer["sold"] * 0.6)]).to_csv(study / "tickets.csv", index=False)
    ran = run_cli("monitor", file)
    assert ran.status == 4
    assert ran.out.count("Rethink: since 2024-07") == 1
    assert run_cli("monitor", file, "--json").status == 4
    file.write_text(STUDY)
    assert "has no archive" in run_cli("monitor", file).err
    file.write_text(f'{STUDY}\n[monitor]\nsince = "2024-05-01"\n')
    assert run_cli("monitor", file).status == 4


def test_what_cannot_be_watched_is_refused():
    data = data_of()
    fit = of.Model("sold", [of.Driver("fare")], loss="huber").fit(data.iloc[:130])
    with pytest.raises(of.InputError, match="Use refit"):
        of.monitor(fit, data)
    with pytest.raises(of.InputError, match="no value of the target has come"):
        of.monitor(of.Model("sold").fit(data), data)
