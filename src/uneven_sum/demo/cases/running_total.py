"""Adds the inflow of 2031 up to September, minute by minute, to the total of the gauge since it was built."""

import csv
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
MINUTE = 60.0  # s
MINUTES_A_DAY = 1440
DAYS = 272  # from January to September
BEFORE = 2.914e9  # m3, the total at the end of 2030


def read_inflow(path):
    """Daily inflow in m3/s."""
    with open(path, newline="") as f:
        return np.array([float(row["inflow_m3s"]) for row in csv.DictReader(f)])


def add_up(inflow, before):
    """The total at the end, in 32 bits as the logger keeps it, and how much of it passed in wet weather."""
    total = np.float32(before)
    wet = 0.0
    minutes = len(inflow) * MINUTES_A_DAY
    for minute in range(minutes):
        flow = float(inflow[minute // MINUTES_A_DAY])
        volume = flow * MINUTE
        total = np.float32(total + volume)
        if flow > 5.0:
            wet += volume
    return float(total), wet


def main():
    inflow = read_inflow(HERE / "inflow_2031.csv")[:DAYS]
    total, wet = add_up(inflow, BEFORE)
    print(f"total of the gauge: {total:.6g} m3, of it in 2031: {total - BEFORE:.4g} m3")
    print(f"in wet weather alone: {wet:.4g} m3; all of the daily inflows: {inflow.sum() * 86_400:.4g} m3")


main()
