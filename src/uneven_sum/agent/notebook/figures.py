"""Figures are outputs of the cell that draws them; a figure that was shown is closed."""

from __future__ import annotations

import io
import sys
from typing import Any

from .outputs import Outputs, figure_of


class Figures:
    def __init__(self, outputs: Outputs) -> None:
        self.outputs = outputs

        def show(*args: object, **options: object) -> None:
            """Show all open figures now."""
            self.flush()

        self.show = show  # a function: pyplot gives it attributes

    def look(self) -> None:
        """`show` of pyplot is ours as soon as it is there: it would ask for a window."""
        pyplot = sys.modules.get("matplotlib.pyplot")
        if pyplot is not None and getattr(pyplot, "show", None) is not self.show:
            if hasattr(pyplot, "switch_backend"):  # imported to its end
                pyplot.show = self.show  # type: ignore[attr-defined]

    def flush(self) -> None:
        """Tell all open figures, and close them."""
        pyplot: Any = sys.modules.get("matplotlib.pyplot")
        if pyplot is None or not hasattr(pyplot, "get_fignums"):
            return
        for number in pyplot.get_fignums():
            figure = pyplot.figure(number)
            if figure.get_axes() or figure.lines or figure.texts or figure.images:
                target = io.BytesIO()
                try:
                    figure.savefig(target, format="png", bbox_inches="tight", dpi=80)
                finally:
                    pyplot.close(figure)
                width, height = figure.get_size_inches() * figure.dpi
                axes = len(figure.get_axes())
                text = f"<Figure size {width:.0f}x{height:.0f} with {axes} Axes>"
                self.outputs.add(figure_of(target.getvalue(), text))
            else:
                pyplot.close(figure)
