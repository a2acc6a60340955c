"""Plots in character cells, number formats, and pictures as files."""
