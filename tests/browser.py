"""A page as a browser shows it: Debian's Chromium, without a network."""

import os
import shutil
from contextlib import contextmanager

import pytest

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


@contextmanager
def browser():
    """A browser that every page of a test shares."""
    path = shutil.which("chromium")
    if path is None:
        assert "OFFING_MUST_HAVE_BROWSER" not in os.environ, "Chromium is not installed"
        pytest.skip("Chromium is not installed")
    from playwright.sync_api import sync_playwright

    with sync_playwright() as running:
        found = running.chromium.launch(executable_path=path, args=FLAGS)
        try:
            yield found
        finally:
            found.close()


class Shown:
    """A page that was opened, with all that it asked for and complained of."""

    def __init__(self, opened, file, **context):
        context = opened.new_context(offline=True, accept_downloads=True, **context)
        self.page = context.new_page()
        self.complaints, self.requests, self.dialogs = [], [], []
        self.page.on(
            "console", lambda each: self.complaints.append(each.text) if each.type in ("error", "warning") else None
        )
        self.page.on("pageerror", lambda each: self.complaints.append(str(each)))
        self.page.on("request", lambda each: self.requests.append(each.url))
        self.page.on("dialog", lambda each: (self.dialogs.append(each.message), each.dismiss()))
        self.page.goto(f"file://{file}")
        self.page.wait_for_selector("html[data-ready=yes]", timeout=20_000)

    @property
    def outside(self):
        """What it asked for beside itself."""
        return [each for each in self.requests[1:] if not each.startswith(("data:", "blob:"))]

    def data(self, name):
        """The columns of a chart's source."""
        return self.page.evaluate(
            "name => Object.fromEntries(Object.entries(Bokeh.documents[0].get_model_by_name(name).data)"
            ".map(([key, values]) => [key, Array.from(values)]))",
            name,
        )

    def range(self):
        """From when to when the charts show."""
        return self.page.evaluate(
            "() => { const own = Bokeh.documents[0].get_model_by_name('time'); return [own.start, own.end]; }"
        )
