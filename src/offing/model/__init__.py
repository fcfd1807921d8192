"""A model, what fitting it gives, and its forecasts with their contributions."""

from offing.model.contributions import Contributions
from offing.model.driver_effects import Effects, effects
from offing.model.elasticities import Elasticities, elasticities
from offing.model.fit import Fit, SeriesFits
from offing.model.forecast import Forecast
from offing.model.model import Model

__all__ = [
    "Contributions",
    "Effects",
    "Elasticities",
    "Fit",
    "Forecast",
    "Model",
    "SeriesFits",
    "effects",
    "elasticities",
]
