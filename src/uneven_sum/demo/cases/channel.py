"""An open channel in equal reaches, and one explicit step of a wave along it."""

import numpy as np


class Channel:
    """The channel below Quillmere: `reaches` cells of `length` metres, waves run at `celerity` m/s."""

    def __init__(self, reaches, length, celerity):
        self.length = length
        self.celerity = celerity
        self.area = np.full(reaches, 1.5)  # m2, wetted

    def discharge(self, area):
        """Flow out of each reach, m3/s."""
        return self.celerity * area

    def step(self, inflow, dt):
        """Advances all reaches by dt seconds; returns the outflow of the last one."""
        through = self.discharge(self.area)
        coming = np.concatenate([[inflow], through[:-1]])
        self.area = self.area + dt / self.length * (coming - through)
        return through[-1]
