"""Fits the inflow of Quillmere to the rain of the day and of the days before, by the normal equations."""

import csv
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent


def read(path):
    with open(path, newline="") as f:
        rows = list(csv.DictReader(f))
    rain = np.array([float(row["rain_mm"]) for row in rows])
    inflow = np.array([float(row["inflow_m3s"]) for row in rows])
    return rain, inflow


def design(rain, days):
    """One column for each day back, the mean of them, and a constant."""
    lagged = [np.roll(rain, back) for back in range(days)]
    mean = sum(lagged) / days
    return np.column_stack([*lagged, mean, np.ones(len(rain))])


def solve(columns, inflow):
    """Least squares by the normal equations, and the variance of each coefficient."""
    normal = columns.T @ columns
    right = columns.T @ inflow
    weights = np.linalg.solve(normal, right)
    spread = np.diag(np.linalg.inv(normal))
    error = np.sqrt(spread)
    return weights, error


def main():
    rain, inflow = read(HERE / "inflow_2031.csv")
    columns = design(rain, days=4)
    weights, error = solve(columns, inflow)
    for name, w, e in zip(["day", "1 back", "2 back", "3 back", "mean", "constant"], weights, error):
        print(f"{name:<10}{w:12.4f} ± {e:.4f}")


main()
