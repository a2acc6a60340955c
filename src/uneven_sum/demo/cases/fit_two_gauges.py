"""How the outflow depends on the stage at the sill and on the stage at the jetty, by least squares."""

import numpy as np

rng = np.random.default_rng(2031)
sill = 4.0 + 0.4 * rng.random(120)  # m
jetty = sill + 1e-11 * rng.standard_normal(120)  # the same level, a stone's throw away
outflow = 1.8 * sill - 6.9 + 0.02 * rng.standard_normal(120)  # m3/s

design = np.column_stack([np.ones(120), sill, jetty])
coefficients, *_ = np.linalg.lstsq(design, outflow, rcond=None)
print("constant, sill, jetty:", coefficients.round(2))
print(f"outflow at 4.30 m: {coefficients @ [1.0, 4.30, 4.30]:.2f} m3/s")
