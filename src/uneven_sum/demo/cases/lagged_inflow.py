"""Compares the inflow to Quillmere with the rain two days earlier."""

import csv
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
LAG = 2  # days that the water takes from the rain gauge to the lake


def read(path):
    """Rain in mm and inflow in m3/s, one value a day."""
    rain, inflow = [], []
    with open(path, newline="") as f:
        for row in csv.DictReader(f):
            rain.append(float(row["rain_mm"]))
            inflow.append(float(row["inflow_m3s"]))
    return np.array(rain), np.array(inflow)


def response(rain, inflow):
    """For each wet day the inflow that its rain brought, per mm."""
    answer = []
    for day in range(len(rain)):
        if rain[day] < 1.0:
            continue
        later = inflow[day + LAG]
        rise = later - inflow[day]
        answer.append(rise / rain[day])
    return np.array(answer)


def main():
    rain, inflow = read(HERE / "inflow_2031.csv")
    print(f"rain of the year: {rain.sum():.0f} mm, wet days: {(rain >= 1.0).sum()}")
    answer = response(rain, inflow)
    print(f"mean response: {answer.mean():.4f} m3/s per mm of rain")


main()
