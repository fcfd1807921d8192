"""Drafts: models and forecasts proposed from tables, and judged by forecasts from past origins."""

from offing.drafting.draft import Choice, Draft, draft

__all__ = ["Choice", "Draft", "draft"]
