"""Routes the inflow of a wet week down the channel below Quillmere."""

import csv
from pathlib import Path

import numpy as np

from channel import Channel

HERE = Path(__file__).parent
STEP = 900.0  # s
STEPS_A_DAY = int(86_400 / STEP)


def read_inflow(path):
    with open(path, newline="") as f:
        return np.array([float(row["inflow_m3s"]) for row in csv.DictReader(f)])


def route(inflow, days):
    """Outflow at the end of the channel for each step."""
    channel = Channel(reaches=300, length=400.0, celerity=1.4)
    outflow = np.zeros(days * STEPS_A_DAY)
    for step in range(len(outflow)):
        day = step // STEPS_A_DAY
        outflow[step] = channel.step(inflow[day], STEP)
    return outflow


def main():
    inflow = read_inflow(HERE / "inflow_2031.csv")
    print(f"inflow: {len(inflow)} days, {inflow.min():.2f} to {inflow.max():.2f} m3/s")
    outflow = route(inflow[:7], days=7)
    print(f"outflow after a week: {outflow[-1]:.3f} m3/s, highest {outflow.max():.3f} m3/s")


main()
