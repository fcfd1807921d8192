"""A statistics service and files of the web: the stand-in that ships, on this machine alone."""

import threading
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo import serving
from offing.demo.service import LAST_DAY, published, truth
from offing.tables.sources import web


@contextmanager
def answering(answer):
    """A server on this machine whose GET is `answer`."""

    class Handler(BaseHTTPRequestHandler):
        do_GET = answer  # noqa: N815

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


def sent(handler, content, status=200, **headers):
    handler.send_response(status)
    for name, value in headers.items():
        handler.send_header(name.replace("_", "-"), value)
    handler.end_headers()
    handler.wfile.write(content)


def test_a_series_is_read_kept_and_used_when_the_service_is_gone(tmp_path):
    with serving() as address:
        table = of.read(service=address, series="NIGHTS/M.NORTH", downloads=str(tmp_path))
    assert table.axis.spell() == "96 months from 2018-01 to 2025-12"
    assert table.values("value").tolist() == published("NIGHTS", "NORTH", LAST_DAY).tolist()
    assert "downloaded, as it stood on" in table.treatments[0].reason
    (kept,) = (tmp_path / "NIGHTS-M.NORTH").iterdir()
    kept.rename(kept.with_name("2026-01-20.csv"))
    again = of.read(service=address, series="NIGHTS/M.NORTH", downloads=str(tmp_path))
    assert again.values("value").tolist() == table.values("value").tolist()
    assert "cannot be reached" in again.findings[0].message
    assert "the download of 2026-01-20 is used" in again.findings[0].message
    with pytest.raises(of.InputError, match="cannot be reached"):
        of.read(service=address, series="NIGHTS/M.SOUTH", downloads=str(tmp_path))


def test_downloads_are_what_was_known_at_their_dates(tmp_path):
    with serving() as address:
        for day in ("2025-09-20", "2025-10-20", "2025-12-20"):
            content = web.fetched(f"{address}/data/dataflow/*/BOOKINGS/*/M.NORTH?asOf={day}")
            web.keep_download(tmp_path / "BOOKINGS-M.NORTH" / f"{day}.csv", content)
        table = of.read(service=address, series="BOOKINGS/M.NORTH", downloads=str(tmp_path))
    micro = lambda day: int(pd.Timestamp(day).value // 1000)  # noqa: E731
    for day in ("2025-10-20", "2025-12-20"):
        seen = table.values_at("value", micro(day) + 1)
        then = published("BOOKINGS", "NORTH", pd.Timestamp(day).date())
        assert np.array_equal(seen[: len(then)], then.to_numpy())
        assert np.isnan(seen[len(then) :]).all()
    assert not np.array_equal(table.values("value")[:93], table.values_at("value", micro("2025-10-21"))[:93]), "revised"
    assert np.isnan(table.values_at("value", micro("2020-02-01"))[25:]).all(), (
        "the first download: by its periods' ends"
    )


def test_all_series_of_a_flow_are_a_panel_and_the_catalogue_is_searched(tmp_path, run_cli):
    with serving() as address:
        found = of.read(service=address, series="PRICES", id="island", downloads=str(tmp_path))
        assert list(found) == ["NORTH", "SOUTH"]
        assert found["SOUTH"].values("value")[:90].tolist() == truth()["PRICES", "SOUTH"].tolist()[:90]
        ran = run_cli("inspect", address, "--find", "rooms")
        assert ran.status == 0
        assert 'series = "BOOKINGS"' in ran.out
        ran = run_cli("inspect", address, "--find", "nihgts")
        assert (ran.status, "Did you mean 'nights'?" in ran.err) == (2, True)
        for series, words in (
            ("NIGTHS", "here is nothing at"),
            ("NIGHTS/M.WEST", "here is nothing at"),
            ("../etc", 'Write it as "FLOW/KEY"'),
        ):
            with pytest.raises(of.InputError, match=words):
                of.read(service=address, series=series, downloads=str(tmp_path))
        with pytest.raises(of.InputError, match=r"does not answer with a catalogue|here is nothing"):
            web.Catalogue.of(f"{address}/other")


def test_a_study_reads_a_file_of_the_web_and_says_nothing_of_its_secrets(tmp_path, run_cli):
    csv = "month,sold\n" + "".join(
        f"{m},{100 + i % 12}\n" for i, m in enumerate(pd.period_range("2020-01", periods=48, freq="M"))
    )
    with answering(lambda self: sent(self, csv.encode())) as address:
        secret = address.replace("http://", "http://me:s3cret@") + "/t.csv?key=s3cret"
        (tmp_path / "study.toml").write_text(
            f'format = 1\n[sources.t]\nurl = "{secret}"\n[target]\ndata = "t.sold"\n[[terms]]\ntype = "season"\n[forecast]\nhorizon = 2\n'
        )
        ran = run_cli("forecast", tmp_path / "study.toml", "--out", tmp_path / "out")
    assert ran.status == 0, ran.err
    assert len(pd.read_csv(tmp_path / "out" / "forecast.csv")) == 2
    written = "".join(
        each.read_text() for each in tmp_path.rglob("*") if each.is_file() and each.suffix in (".csv", ".json")
    )
    assert "s3cret" not in written + ran.out + ran.err
    ran = run_cli("fit", tmp_path / "study.toml")
    assert ran.status == 0, "without the server, from what was kept"


def test_limits_of_the_web(monkeypatch):
    monkeypatch.setattr(web, "_LARGEST", 10_000)
    with (
        answering(lambda self: sent(self, b"x" * 20_000)) as address,
        pytest.raises(of.InputError, match="ore than 0 MB come from"),
    ):
        web.fetched(address)
    with (
        answering(lambda self: sent(self, b"", 302, Location="/again")) as address,
        pytest.raises(of.InputError, match="sends on more than 5 times"),
    ):
        web.fetched(address)
    with (
        answering(lambda self: sent(self, b"", 302, Location="file:///etc/passwd")) as address,
        pytest.raises(of.InputError, match="neither http nor https"),
    ):
        web.fetched(address)
    with (
        answering(lambda self: sent(self, b"no", 500)) as address,
        pytest.raises(of.InputError, match=r"refuses \(status 500\)"),
    ):
        web.fetched(address)
    monkeypatch.setattr(web, "_LONGEST", 0.3)
    silent = threading.Event()
    with (
        answering(lambda self: silent.wait(2.0)) as address,
        pytest.raises(of.InputError, match=r"othing came from .* within"),
    ):
        web.fetched(address)
    silent.set()
    for wrong, words in (("ftp://a/b", "neither http nor https"), ("file:///etc/passwd", "neither http nor https")):
        with pytest.raises(of.InputError, match=words):
            web.fetched(wrong)


def test_the_service_story_runs(tmp_path, run_cli):
    ran = run_cli("demo", tmp_path, "--story", "service")
    assert ran.status == 0, ran.err
    assert "values of bookings were revised" in ran.out
    assert "beats the best plain reference" in ran.out
    assert run_cli("forecast", tmp_path / "study.toml").status == 0, "the service has stopped"
