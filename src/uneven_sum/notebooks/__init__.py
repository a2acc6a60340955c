"""Cells: of notebooks, and of scripts whose cells are marked.  Texts in, texts out; nothing runs here."""
