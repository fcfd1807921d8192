"""Agreement with certified results, through the engine and through the whole library."""

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.engine import least_squares

FOLDER = Path(__file__).parent / "certified"
CERTIFIED = json.loads((FOLDER / "values.json").read_text())
#: Correct digits that double precision allows on each set.
DIGITS = {"longley": 8.5, "norris": 10.0, "wampler1": 8.0, "wampler4": 6.0}


def digits(found, certified) -> float:
    """Fewest correct digits: the base-10 logarithm of the relative error, or the absolute one where zero is right."""
    found, certified = np.asarray(found, float), np.asarray(certified, float)
    error = np.abs(found - certified) / np.where(certified == 0.0, 1.0, np.abs(certified))
    return float(-np.log10(np.maximum(error, 1e-16)).min())


def columns_of(name: str) -> tuple[np.ndarray, np.ndarray]:
    noted = CERTIFIED[name]
    data = pd.read_csv(FOLDER / f"{name}.csv")
    columns = data[noted["columns"]].to_numpy(float)
    if noted["powers_of_the_column"] > 1:
        columns = columns ** np.arange(1, noted["powers_of_the_column"] + 1)
    return columns, data[noted["target"]].to_numpy(float)


@pytest.mark.parametrize("name", DIGITS)
def test_engine_reaches_the_digits(name):
    columns, target = columns_of(name)
    estimate = least_squares(np.column_stack([np.ones(len(target)), columns]), target)
    assert digits(estimate.beta, CERTIFIED[name]["coefficients"]) >= DIGITS[name]


@pytest.mark.parametrize("name", DIGITS)
def test_a_fit_reaches_the_digits_in_every_figure(name):
    columns, target = columns_of(name)
    data = pd.DataFrame(columns, columns=[f"x{i}" for i in range(columns.shape[1])])
    data = data.assign(y=target).set_index(pd.date_range("2020-01-01", periods=len(target), freq="D"))
    terms = [of.Driver(f"x{i}") for i in range(columns.shape[1])]
    fit = of.Model("y", terms=terms).fit(data)
    noted, table = CERTIFIED[name], fit.coefficients
    assert table["column"].tolist() == ["constant", *(f"x{i}" for i in range(columns.shape[1]))]
    assert digits(table["coefficient"], noted["coefficients"]) >= DIGITS[name]
    # Where the fit is exact, rounding of the target is all that the noise can be measured against.
    scale = np.linalg.norm(target) if noted["residual_standard_deviation"] == 0.0 else 1.0
    assert digits(table["std_error"] / scale, np.divide(noted["standard_deviations"], scale)) >= DIGITS[name]
    deviation = noted["residual_standard_deviation"]
    assert digits(fit.statistics.residual_deviation / scale, deviation / scale) >= DIGITS[name]
    assert digits(fit.statistics.r_squared, noted["r_squared"]) >= DIGITS[name]
