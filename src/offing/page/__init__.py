"""The page: one file that opens in any browser without a network, and holds all that there is to say."""

from offing.page.content import Chapter, Overview, Page, Unit
from offing.page.render import page_html

__all__ = ["Chapter", "Overview", "Page", "Unit", "page_html"]
