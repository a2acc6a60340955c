"""Spill over the sill of Quillmere in 2031, from the daily stage and the rating curve."""

import csv
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
SILL = 4.0  # m above datum
WIDTH = 4.0  # m
C = 1.84  # coefficient of a broad sill
DAY = 86_400.0  # s
CAPACITY = 2.5e7  # m3, of the basin below the sill


def read_stage(path):
    """Daily stage in metres, and the dates."""
    dates, stage = [], []
    with open(path, newline="") as f:
        for row in csv.DictReader(f):
            dates.append(row["date"])
            stage.append(float(row["stage_m"]))
    return dates, np.array(stage)


def rate(stage):
    """Flow over the sill for each day, and the volume of the year."""
    days = len(stage)
    flow = np.zeros(days)
    total = 0.0
    spilled = None
    for day in range(days):
        level = stage[day]
        head = level - SILL
        flow[day] = C * head ** 1.5 * WIDTH
        total += flow[day] * DAY
        if total > CAPACITY and spilled is None:
            spilled = day
    return flow, total, spilled


def main():
    dates, stage = read_stage(HERE / "stage_2031.csv")
    print(f"reading stage_2031.csv: {len(stage)} days")
    flow, volume, spilled = rate(stage)
    print(f"volume over the sill: {volume:.4g} m3")
    print(f"highest flow: {flow.max():.3f} m3/s on {dates[int(flow.argmax())]}")
    if spilled is not None:
        print(f"the basin below is full on {dates[spilled]}")


main()
