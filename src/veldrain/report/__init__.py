"""Figures and pages. The only place that imports Matplotlib."""
