"""Drafts: models and forecasts proposed from tables, and judged by forecasts from past origins."""

from offing.drafting.choice import Choice
from offing.drafting.draft import Draft, draft

__all__ = ["Choice", "Draft", "draft"]
