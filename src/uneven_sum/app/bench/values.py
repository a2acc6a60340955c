"""Values on the Bench: which one to open, watches, copying."""

from __future__ import annotations

import ast
import asyncio
import contextlib
import keyword
import os
import re
from math import prod

from textual.css.query import NoMatches

from ...client import BadUse, Client
from ...protocol import Card
from ...safe_text import cut
from ..closeup.screen import CloseUp
from ..plotting import image_export
from ..plotting.charts import DRAW
from ..shell.clipboard import copy
from ..widgets.dialogs import Choice, Choose, Prompt, Sure
from ..widgets.sheet import Sheet
from .cards import Cards
from .controller import Controller, background

PICTURE = 10  # rows of a larger picture
QUICK = 2_000_000  # cells of an array that is drawn unasked: a larger one would hold up the next key
CALM = 0.4  # seconds of a pause after which larger pictures are drawn: not while one steps


class Values(Controller):
    """A controller of the Bench."""

    def action_closeup(self) -> None:
        """The value at the cursor: of the cursor line's names, arrays that are not healthy first."""
        if self.bench.client is None or self.bench.state != "paused":
            self.bench.notify("Values are shown at a pause.")
            return
        found = self.candidates()
        if found:
            self.open_closeup(found)
        else:
            self.bench.notify("There is no value to open here.")

    def candidates(self) -> list[str]:
        """Names at the cursor line, then of the cards, the most telling first."""
        bench = self.bench
        sheet = bench.query_one(Sheet)
        cards = {c.name: c for c in bench.query_one(Cards).cards if c.assigned}
        line = sheet.lines[sheet.cursor - 1] if sheet.lines else ""
        here = [n for n in names_in(line) if n in cards]
        pointed = [sheet.pointed[2]] if sheet.pointed is not None else []

        def rank(name: str) -> tuple[bool, bool, int]:
            card = cards[name]
            large = card.kind in ("array", "frame")
            return (not (large and card.nonfinite), not large, here.index(name))

        rest = [n for n in cards if n not in here]
        names = sorted(here, key=rank) + sorted(rest, key=lambda n: cards[n].kind not in ("array", "frame"))
        return pointed + [n for n in names if n not in pointed]

    def open_closeup(self, expressions: list[str]) -> None:
        bench = self.bench
        bench.app.push_screen(CloseUp(bench, bench.palette, expressions, bench.frame_number()))

    def on_cards_opened(self, message: Cards.Opened) -> None:
        rest = [n for n in self.candidates() if n != message.name]
        self.open_closeup([message.name, *rest])

    @background(group="dialog")
    async def action_find_value(self) -> None:
        """A value of this call or of the module, by typing a part of its name."""
        chosen = await self._choose_value()
        if chosen is not None:
            self.open_closeup([chosen])

    async def _choose_value(self) -> str | None:
        """One of the values of this call and of the module; what the cards show is first."""
        bench, client = self.bench, self.bench.client
        if client is None or self.bench.state != "paused":
            return None
        terms = {t.text: t for ts in bench.query_one(Sheet).terms.values() for t in ts}
        found = {n: Card(n, terms[n].value, "term " + terms[n].type, "term") for n in self.term_texts()}
        found.update({c.name: c for c in bench.query_one(Cards).cards})
        for about in ("call", "module"):
            for card in await client.cards(bench.frame_number(), about):
                if card.assigned:
                    found.setdefault(card.name, card)
        choices = [Choice(n, n, cut(f"{c.type}  {c.text}", 90)) for n, c in found.items()]
        return await bench.app.push_screen_wait(Choose(bench.palette, "Which value?", choices, typed=True))

    def on_cards_menu_asked(self, message: Cards.MenuAsked) -> None:
        self.action_value_menu(message.name)

    @background(group="dialog")
    async def action_value_menu(self, name: str = "") -> None:
        """What can be done with a value: of a card (right click), or of one that is chosen first."""
        bench = self.bench
        wanted = name or await self._choose_value()
        if wanted is None:
            return
        card = next((c for c in bench.query_one(Cards).cards if c.name == wanted), None)
        watched = wanted in self.bench.watches
        choices = [
            Choice("open", "open it", "its facts, grid and plots"),
            Choice("watch", "stop watching" if watched else "watch it", "a card of its own at every pause"),
            Choice("copy", "copy it", "its text, to the clipboard"),
        ]
        if card is not None or wanted not in self.term_texts():
            choices.insert(1, Choice("set", "set it", "to another value, in the script"))
        if card is not None and card.changed and card.old:
            choices.insert(-1, Choice("old", cut(f"it was {card.old}", 60), f"and is {card.text}: copies both"))
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, wanted, choices))
        if chosen == "open":
            self.open_closeup([wanted])
        elif chosen == "watch":
            self.bench.watches.remove(wanted) if watched else self.bench.watches.append(wanted)
            bench.notify(f"{wanted} is {'no longer ' if watched else ''}watched.")
            await self.record_watches()
            await self.show_cards()
        elif chosen == "set":
            await self._set_value(wanted)
        elif chosen == "copy":
            term = next((t for ts in bench.query_one(Sheet).terms.values() for t in ts if t.text == wanted), None)
            self.copy_text(card.text if card is not None else term.value if term is not None else wanted)
        elif chosen == "old" and card is not None:
            self.copy_text(f"{wanted}: {card.old} → {card.text}")

    def term_texts(self) -> list[str]:
        """The unfolded terms, which can be opened, watched and copied too."""
        terms = [t for ts in self.bench.query_one(Sheet).terms.values() for t in ts]
        return list(dict.fromkeys(t.text for t in terms if not t.text.isidentifier()))

    def on_sheet_term_chosen(self, message: Sheet.TermChosen) -> None:
        self.action_value_menu(message.text)

    async def _set_value(self, target: str) -> None:
        """Asks for a value, and again when it does not fit its place."""
        bench, client = self.bench, self.bench.client
        assert client is not None
        question = f"New value of {target}, in the script (also !{target}[…] = … in the ask drawer)"
        text = await bench.app.push_screen_wait(Prompt(bench.palette, question, "", "an expression"))
        if not text or not text.strip():
            return
        try:
            try:
                told = await client.set_value(target, text, bench.frame_number())
            except BadUse as e:
                if not e.facts.get("misfit") or not await bench.app.push_screen_wait(
                    Sure(bench.palette, f"{e}\nSet it anyway?")
                ):
                    raise
                told = await client.set_value(target, text, bench.frame_number(), force=True)
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        if bench.facts is not None:
            bench.facts.hand = told["hand"]
        bench.notify(f"{target} is {told['value']} now, set by you.")
        bench.show_state("paused")
        await bench.read_call(client)

    def action_point(self, by: int) -> None:
        """To the next name of the cursor line; its value is shown."""
        self.bench.query_one(Sheet).point(by)

    async def on_sheet_pointed(self, message: Sheet.Pointed) -> None:
        value = await self._value_read(message.text) or "not known here"
        self.bench.query_one(Sheet).show_pointed(message.text, value)

    async def on_sheet_hovered(self, message: Sheet.Hovered) -> None:
        value = await self._value_read(message.text)
        self.bench.query_one(Sheet).tooltip = f"{message.text} = {value}" if value else None

    async def _value_read(self, text: str) -> str:
        """A name, attribute or element with its type; no code is run for it.  Empty where it cannot be read."""
        if self.bench.client is None or self.bench.state != "paused":
            return ""
        try:
            body = await self.bench.client.ask(text, self.bench.frame_number(), "hover")
        except BadUse:
            return ""
        return f"{body['result']}   {body.get('type', '')}"

    @background(group="dialog")
    async def show_figures(self) -> None:
        """The figures that the script has drawn with matplotlib; one can be saved."""
        bench, client = self.bench, self.bench.client
        if client is None or self.bench.state != "paused":
            bench.notify("Figures are listed at a pause.")
            return
        figures = await client.figures()
        if not figures:
            bench.notify("The script has no open figure.")
            return
        choices = [
            Choice(str(f["number"]), f"figure {f['number']}", f["title"] or f"{f['axes']} axes") for f in figures
        ]
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Save which figure?", choices))
        if chosen is None:
            return
        path = await bench.app.push_screen_wait(
            Prompt(bench.palette, "To which file?", f"figure_{chosen}.svg", ".svg, .pdf or .png")
        )
        if path:
            try:
                await client.figures(int(chosen), os.path.abspath(os.path.expanduser(path)))
                bench.notify(f"Figure {chosen} is in {path}.")
            except BadUse as e:
                bench.notify(str(e), severity="warning")

    def _watch_asked(self, expression: str) -> str:
        try:
            ast.parse(expression, mode="eval")
        except SyntaxError as e:
            raise BadUse(f"{expression} is not an expression: {e.msg}.") from None
        if expression not in self.bench.watches:
            self.bench.watches.append(expression)
        self.bench.about = "watched"
        self.bench.run_worker(self.show_cards(), group="cards")
        return f"{expression} is watched"

    # -- words of the ask line -----------------------------------------------------------------------

    async def command(self, text: str) -> str | None:
        """`plot EXPR [as KIND] [to FILE]`, `table EXPR to FILE`, `open EXPR`: done; the message, or None when
        the text is no such command."""
        if text.startswith("watch "):
            return self._watch_asked(text[6:].strip())
        if text.startswith("verify "):
            return self.bench.verifying.name_result(text[7:].strip())
        found = re.fullmatch(r"(plot|table|open) (.+?)(?: as (\w+))?(?: to (\S+))?", text)
        client = self.bench.client
        if found is None or client is None:
            return None
        word, expression, kind, path = found.groups()
        frame = self.bench.frame_number()
        try:
            if word == "table":
                if path is None:
                    return "Where to? table EXPRESSION to FILE.csv (or .npy, .parquet)"
                told = await client.export_grid(expression, frame, os.path.abspath(os.path.expanduser(path)))
                return f"{told['rows']} rows are in {told['path']}"
            if word == "plot" and path is not None:
                kind = kind or "line"
                data = await client.plot(expression, frame, kind=kind, width=400, height=60)
                full = os.path.abspath(os.path.expanduser(path))
                await image_export.write(kind, data, full, f"{expression} — {self.bench.launch.name}")
                return f"the plot is in {full}"
        except (OSError, ValueError, BadUse, KeyError) as e:
            raise BadUse(str(e) if not isinstance(e, KeyError) else f"There is no plot {e}.") from None
        bench = self.bench
        bench.app.push_screen(
            CloseUp(bench, bench.palette, [expression], frame, (kind or "line") if word == "plot" else "")
        )
        return f"{word} {expression}"

    # -- watches -------------------------------------------------------------------------------------

    @background(group="dialog")
    async def edit_watches(self) -> None:
        """All watch expressions in one line: edited, moved, removed by editing it."""
        bench = self.bench
        text = await bench.app.push_screen_wait(
            Prompt(bench.palette, "The watch expressions, in their order", " ; ".join(self.bench.watches), "a ; b ; c")
        )
        if text is None:
            return
        wanted = [part.strip() for part in text.split(";") if part.strip()]
        for part in wanted:
            try:
                ast.parse(part, mode="eval")
            except SyntaxError as e:
                bench.notify(f"{part} is not an expression: {e.msg}. The watches are as they were.", severity="warning")
                return
        self.bench.watches[:] = wanted
        bench.about = "watched"
        await self.record_watches()
        await self.show_cards()

    @background(group="dialog")
    async def action_watch(self) -> None:
        """Adds a watch expression; an existing one is removed by giving it again."""
        bench = self.bench
        sheet = bench.query_one(Sheet)
        line = sheet.lines[sheet.cursor - 1] if sheet.lines else ""
        names = [sheet.pointed[2]] if sheet.pointed is not None else names_in(line)
        hint = "an expression; one that is watched already is removed"
        text = await bench.app.push_screen_wait(Prompt(bench.palette, "Watch what?", names[0] if names else "", hint))
        if not text or not text.strip():
            return
        text = text.strip()
        if text in self.bench.watches:
            self.bench.watches.remove(text)
        else:
            try:
                ast.parse(text, mode="eval")
            except SyntaxError as e:
                bench.notify(f"{text} is not an expression: {e.msg}.", severity="warning")
                return
            self.bench.watches.append(text)
        bench.about = "watched"
        await self.record_watches()
        await self.show_cards()

    async def record_watches(self) -> None:
        """The watches are columns of loops that are recorded from now on."""
        if self.bench.client is not None and self.bench.state == "paused":
            with contextlib.suppress(BadUse):
                await self.bench.client.record([], watches=self.bench.watches)

    async def show_cards(self) -> None:
        """The cards as chosen: around the line, of the call, of the module, watched."""
        bench, client = self.bench, self.bench.client
        if client is None or self.bench.state != "paused":
            return
        try:
            if bench.about == "watched":
                cards = await self.watched()
            else:
                cards = await client.cards(bench.frame_number(), bench.about)
                if any(c.pending for c in cards):
                    bench.query_one(Cards).show(cards, bench.about)
                    cards = await self.filled(client, cards)
        except BadUse:
            return
        bench.query_one(Cards).show(cards, bench.about)

    @background(exclusive=True, group="room")
    async def fill_room(self) -> None:
        """Larger pictures of the arrays and frames at hand, as far as there is room below their cards."""
        await asyncio.sleep(CALM)
        with contextlib.suppress(BadUse, NoMatches):  # the script has gone on or ended, or the Bench is left
            await self._fill_room()

    async def _fill_room(self) -> None:
        bench, client = self.bench, self.bench.client
        cards = bench.query_one(Cards)
        if client is None or self.bench.state != "paused" or not bench.facts or cards.pictures:
            return
        facts, shown = bench.facts, list(cards.cards)
        width, rows = cards.room
        if width < 40 or rows < PICTURE + 1:
            return
        known = {c.name for c in shown}
        for about in ("call", "module"):
            shown += [c for c in await client.cards(bench.frame_number(), about) if not known.intersection([c.name])]
            known = {c.name for c in shown}
        large = [c for c in shown if c.assigned and c.kind in ("array", "frame") and prod(c.shape or [1]) <= QUICK]
        for card in sorted(large, key=lambda c: not c.nonfinite):
            if self.bench.state != "paused" or bench.facts is not facts or cards.room[1] < PICTURE + 1:
                return
            if len(cards.pictures) + PICTURE + 1 > rows:
                return
            flat = len(card.shape or [1]) == 2 and card.kind == "array"
            kind = "heat" if flat and min(card.shape or [1]) > 1 else "line"
            how = {"kind": kind, "width": width - 12, "height": PICTURE, "columns": []}
            try:
                data = await client.plot(card.name, bench.frame_number(), **how)
            except BadUse:
                continue  # texts, or nothing in it
            title = card.name
            if kind == "line":
                data["series"] = data["series"][:1]
                if not data["series"]:
                    continue
                title += f": {data['series'][0]['name']}" if len(card.shape or []) == 2 else ""
            drawn = DRAW[kind](data, width - 1, PICTURE, bench.palette, bench.formats[""])
            cards.add_picture(title, drawn, PICTURE)

    async def filled(self, client: Client, cards: list[Card]) -> list[Card]:
        """The cards with the summaries that take time."""
        waiting = [c.name for c in cards if c.pending]
        told = {c.name: c for c in await client.fill(self.bench.frame_number(), self.bench.about, waiting)}
        return [told.get(c.name, c) for c in cards]

    async def watched(self) -> list[Card]:
        assert self.bench.client is not None
        return await asyncio.gather(*(self._one(text) for text in self.bench.watches))

    async def _one(self, text: str) -> Card:
        client, frame = self.bench.client, self.bench.frame_number()
        assert client is not None
        try:
            told = (await client.ask(text, frame, "watch"))["unevenSum"]
        except BadUse as e:
            return Card(text, f"not known here yet: {e}", "", "none", assigned=False)
        return Card(
            text,
            told["text"],
            told["type"],
            told["kind"],
            told["nonfinite"],
            picture=told.get("picture", ""),
            marks=told.get("marks", ""),
        )

    def copy_terms(self) -> None:
        """The headline and the terms of the paused statement."""
        facts = self.bench.facts
        if facts is None:
            return
        rows = [f"{'  ' * t.depth}{t.text}\t{t.value}\t{t.type}{'  culprit' if t.culprit else ''}" for t in facts.terms]
        self.copy_text("\n".join([facts.headline, *rows]))
        self.bench.notify("The headline and the terms are copied.")

    # -- copying -------------------------------------------------------------------------------------

    def copy_text(self, text: str) -> None:
        copy(self.bench, text)


def names_in(line: str) -> list[str]:
    """The names of a source line, in their order."""
    found: list[str] = []
    word = ""
    for sign in line.partition("#")[0] + " ":
        if sign.isalnum() or sign == "_":
            word += sign
        else:
            if word.isidentifier() and not keyword.iskeyword(word):
                found.append(word)
            word = ""
    return list(dict.fromkeys(found))
