"""What several screens show: bars, dialogs, source, tables, plots."""
