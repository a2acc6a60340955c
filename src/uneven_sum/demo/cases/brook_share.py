"""Which part of the inflow to Quillmere in 2031 comes from the north brook."""

import csv
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent


def read_brooks(path):
    """Daily flow of both brooks in m3/s."""
    with open(path, newline="") as f:
        rows = [(float(r["north_m3s"]), float(r["south_m3s"])) for r in csv.DictReader(f)]
    return np.array(rows)


def shares(flows):
    """The part of each brook, day by day."""
    total = flows.sum(axis=1, keepdims=True)
    return flows / total


def main():
    flows = read_brooks(HERE / "brooks_2031.csv")
    print(f"brooks: {len(flows)} days, {(flows == 0.0).sum(axis=0)} days dry")
    share = shares(flows)
    north = share[:, 0]
    weighted = (north * flows.sum(axis=1)).sum() / flows.sum()
    print(f"the north brook brings {100 * weighted:.1f} % of the water, on a mean day {100 * north.mean():.1f} %")


main()
