"""The clock of a gauge: pulses of 10 ms since the logger was started, and the time between two readings."""

import numpy as np

READINGS = 12
EVERY = 30 * 24 * 3600 * 100  # pulses in thirty days

reading = np.arange(READINGS, dtype=np.int32)
pulses = reading * EVERY

days = pulses / (24 * 3600 * 100)
print(f"days since the start: {days[-1]:.1f}, of {30 * (READINGS - 1)} expected")
print(f"mean time between readings: {np.diff(days).mean():.1f} days")
