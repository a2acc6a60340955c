"""Theme, settings and the guide on the Bench."""

from __future__ import annotations

from ...client import settings
from ..plotting.number_format import Format
from ..shell.theme import PALETTES
from ..widgets.bars import Headline, Keys
from ..widgets.sheet import Sheet
from .cards import Cards
from .controller import Controller
from .guide_bar import GuideBar
from .output_drawer import OutputDrawer


class Appearance(Controller):
    """A controller of the Bench."""

    @property
    def over(self) -> list[str]:
        """What stepping does not stop in: of this case, and of all."""
        bench = self.bench
        return [*bench.book.over, *(o for o in bench.settings.stepped_over if o not in bench.book.over)]

    def action_theme(self) -> None:
        bench = self.bench
        names = list(PALETTES)
        bench.app.theme = names[(names.index(bench.palette.name) + 1) % len(names)]
        self.draw_theme()

    def draw_theme(self) -> None:
        """Draws everything again, in the colours of the application's theme."""
        bench = self.bench
        bench.palette = bench.uneven.palette
        for widget in bench.query("TopLine, Headline, Trail, Sheet, Cards, PassStrip, AskDrawer, OutputDrawer, Keys"):
            widget.palette = bench.palette  # type: ignore[attr-defined]  # each of these has one
        for bar in bench.query(GuideBar):
            bar.palette = bench.palette
            bar.draw()
        sheet = bench.query_one(Sheet)
        path, sheet.path = sheet.path, ""
        terms, notes, remarks = dict(sheet.terms), dict(sheet.notes), dict(sheet.remarks)
        sheet.show_file(path, "\n".join(sheet.lines))
        sheet.terms, sheet.notes, sheet.remarks = terms, notes, remarks
        sheet.fold(-1)
        bench.query_one(Cards).show(bench.query_one(Cards).cards, bench.about)
        bench.query_one(OutputDrawer).draw()
        bench.show_state(bench.state)
        if bench.facts is not None:
            bench.query_one(Headline).show(bench.facts.headline, bench.facts.reason, bench.facts.expectations)
            bench.show_trail(bench.facts)

    def take_settings(self, now: settings.Settings) -> None:
        """What was set holds; limits from the next run on."""
        bench = self.bench
        old, bench.settings = bench.usual, now
        now.fit(bench.launch)
        if bench.client is not None:
            bench.client.hold_others(now.hold_others)
        bench.record_all = now.record == "always"
        bench.usual = Format(now.number_style, now.digits, now.thousands)
        if bench.formats[""] == old:
            bench.formats[""] = bench.usual
        if bench.palette.name != bench.app.theme:
            self.draw_theme()
        bench.query_one(Keys).show(bench.key_line.present_keys())

    def action_settings(self) -> None:
        self.bench.uneven.open_settings()

    def action_guide(self) -> None:
        """Leaves the guide; where there is none, says where it begins."""
        bench = self.bench
        if not bench.guided:
            bench.notify(f"The guide begins on the Desk ({bench.key('1')}), with g.")
            return
        bench.guided = False
        bench.query(GuideBar).remove()
