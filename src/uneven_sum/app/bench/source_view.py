"""Moving about in the sources on the Bench: other files, search, lines and definitions, the menu of a line."""

from __future__ import annotations

import ast
import os

from ...client import BadUse
from ...client.sources import as_python, place_words
from ..shell.paths import short
from ..widgets.dialogs import Choice, Choose, Prompt
from ..widgets.sheet import Sheet
from .controller import Controller, background


class SourceView(Controller):
    """A controller of the Bench."""

    sought = ""

    def known_files(self) -> list[str]:
        """The script, its neighbours, and what has been shown."""
        script = self.bench.script_path()
        folder = os.path.dirname(script)
        try:
            near = sorted(os.path.join(folder, n) for n in os.listdir(folder) if n.endswith((".py", ".ipynb")))
        except OSError:
            near = []
        return list(dict.fromkeys([script, *self.bench.texts, *near]))

    @background(group="dialog")
    async def action_open_file(self) -> None:
        """Another source file: the user's, or a library's that the script has imported."""
        choices = [Choice(p, os.path.basename(p), short(p)) for p in self.known_files()]
        have = {c.key for c in choices}
        if self.bench.client is not None and self.bench.client.alive:
            try:
                for name, path in await self.bench.client.modules():
                    if path.endswith((".py", ".ipynb")) and path not in have:
                        choices.append(Choice(path, name, short(path)))
            except BadUse:
                pass
        bench = self.bench
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Which source file?", choices, typed=True))
        if chosen is not None:
            self.show_source(chosen, 1)

    def show_source(self, path: str, line: int) -> None:
        bench = self.bench
        bench.sources.show_text(path)
        sheet = bench.query_one(Sheet)
        facts = bench.facts
        sheet.fold()
        if facts is not None and facts.file == path:
            sheet.show_place(facts.line, facts.end_line, facts.state, move=False)
        else:
            sheet.show_place(0, 0, "", move=False)
        sheet.cursor = line
        sheet.reveal(line)
        sheet.focus()

    @background(group="dialog")
    async def action_search(self) -> None:
        """Text in the sheet; `n` finds the next."""
        bench = self.bench
        text = await bench.app.push_screen_wait(Prompt(bench.palette, "Search in the sheet", self.sought, "a text"))
        if text:
            self.sought = text
            self.action_next_found()

    def action_next_found(self) -> None:
        sheet = self.bench.query_one(Sheet)
        wanted = self.sought.lower()
        if not wanted:
            return
        order = [*range(sheet.cursor + 1, len(sheet.lines) + 1), *range(1, sheet.cursor + 1)]
        line = next((n for n in order if wanted in sheet.lines[n - 1].lower()), None)
        if line is None:
            self.bench.notify(f"{self.sought} is not in {os.path.basename(sheet.path)}.")
            return
        sheet.cursor = line
        sheet.reveal(line)

    @background(group="dialog")
    async def action_go_to(self) -> None:
        """A line by its number, or the definition of a name."""
        bench = self.bench
        sheet = bench.query_one(Sheet)
        hint = "a line's number, or the name of a function or class"
        text = await bench.app.push_screen_wait(Prompt(bench.palette, "Go to", sheet.word_at_cursor(), hint))
        if not text:
            return
        text = text.strip()
        if text.isdigit():
            sheet.cursor = int(text)
            sheet.reveal(sheet.cursor)
            return
        for path in [sheet.path, *self.known_files()]:
            line = definition(as_python(path, bench.sources.text_of(path)), text)
            if line is not None:
                self.show_source(path, line)
                return
        bench.notify(f"No definition of {text} is in the files that are known here.")

    def on_sheet_menu_asked(self, message: Sheet.MenuAsked) -> None:
        self.action_menu()

    @background(group="dialog")
    async def action_menu(self) -> None:
        """What can be done with the cursor line."""
        bench = self.bench
        sheet = bench.query_one(Sheet)
        paused = self.bench.state == "paused"
        choices = [Choice("m", "breakpoint on or off", "m"), Choice("M", "edit its sentence", "M")]
        choices.append(Choice("element", "pause at each element", "of a comprehension or generator expression in it"))
        choices.append(Choice("lambda", "pause at each call of the lambda", "in this line"))
        if paused:
            choices += [
                Choice("h", "run to this line", "h"),
                Choice("next", "make this line the next one", "what lies between does not run, or runs once more"),
                Choice("leave", "leave this call at once", "with a value that you give; the rest of it does not run"),
                Choice("t", "unfold its terms", "t"),
            ]
        title = f"{place_words(sheet.path, sheet.cursor).capitalize()} of {os.path.basename(sheet.path)}"
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, title, choices))
        await self._chosen(chosen, sheet)

    async def _chosen(self, chosen: str | None, sheet: Sheet) -> None:
        from ...protocol import Lookout

        bench = self.bench
        if chosen == "m":
            await bench.breakpoints.action_breakpoint()
        elif chosen == "M":
            bench.breakpoints.action_edit_lookout()
        elif chosen in ("element", "lambda"):
            lookout = Lookout(where=chosen, file=sheet.path, line=sheet.cursor)
            fine, why = await bench.breakpoints.check(_said(lookout), sheet.path)
            if not fine:
                bench.notify(why, severity="warning")
                return
            bench.book.add(lookout)
            await bench.breakpoints.send_lookouts()
        elif chosen == "h":
            await bench.stepping.action_here()
        elif chosen == "next":
            await bench.stepping.make_next()
        elif chosen == "leave":
            bench.stepping.leave_call()
        elif chosen == "t":
            await bench.action_terms()


def _said(lookout: object) -> str:
    from ...client.sentences import sentence

    return sentence(lookout)  # type: ignore[arg-type]  # imported late


def definition(text: str, name: str) -> int | None:
    """The line where a function, class or module-level name is defined; `Gauge.rate` names a method."""
    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError, RecursionError):
        return None
    first, _, rest = name.partition(".")
    bodies: list[tuple[list[ast.stmt], str, str]] = [(tree.body, first, rest)]
    while bodies:
        body, wanted, inner = bodies.pop(0)
        for node in body:
            if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
                if node.name == wanted:
                    if not inner:
                        return node.lineno
                    head, _, tail = inner.partition(".")
                    bodies.append((node.body, head, tail))
                elif not rest:
                    bodies.append((node.body, wanted, inner))
            elif isinstance(node, ast.Assign) and not rest:
                if any(isinstance(t, ast.Name) and t.id == wanted for t in node.targets):
                    return node.lineno
    return None
