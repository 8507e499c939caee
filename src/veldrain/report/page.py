"""The page of a study: one HTML file that needs nothing else."""

from __future__ import annotations

from importlib.resources import files
from io import StringIO
from pathlib import Path

import matplotlib as mpl
from jinja2 import Environment, StrictUndefined
from markupsafe import Markup
from matplotlib.figure import Figure

from veldrain.files import write_text
from veldrain.report import figures
from veldrain.report.text import edge_sentence, number, probability, remarks, signed, verdicts, with_unit
from veldrain.study import Result
from veldrain.study.statistics import Comparison


def write_page(result: Result, comparison: Comparison | None, path: Path) -> Path:
    """Write the page of a study.

    Args:
        result: the study's results.
        comparison: of its controllers; None where there is only one.
        path: of the HTML file.
    """
    template = files("veldrain.report").joinpath("page.html").read_text(encoding="utf-8")
    page = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    page.filters |= {"number": number, "signed": signed, "p": probability}
    with mpl.rc_context(figures.STYLE):  # type: ignore[arg-type]
        drawn = _figures(result, comparison)
    html = page.from_string(template).render(
        about=result.about,
        comparison=comparison,
        drawn=drawn,
        changes=result.about.get("changes", {}),
        findings=verdicts(comparison) if comparison else [],
        remarks=remarks(comparison) if comparison else [],
        notices=result.notices,
        colours={name: figures.colour_of(result, name) for name in result.about["controllers"]},
        metrics=[(name, with_unit(name, unit)) for name, unit, _ in result.metrics],
        vary=[(path, with_unit(path, unit)) for path, unit in result.about["vary"].items()],
        trials=result.trials.to_dict("records"),
    )
    write_text(path, html)
    return path


def _figures(result: Result, comparison: Comparison | None) -> list[tuple[str, str, Markup]]:
    """Title, explanation and SVG of each figure."""
    found = []
    plan = figures.paths(result)
    if plan:
        found.append(("Paths", "Every trial's true path over the plan of the world.", _svg(plan)))
    seen = set()
    for metric in result.about["metrics"]:
        key = (metric.get("stream"), metric.get("column"))
        if key[0] and "*" not in key[1] and key not in seen:
            seen.add(key)
            title = f"{key[0]}{'' if key[1] == 'data' else f' {key[1]}'} over time"
            text = "Line: median of the trials. Band: the middle 80 % of them."
            found.append((title, text, _svg(figures.over_time(result, *key, metric["unit"]))))
    parted = figures.edges(result)
    if parted:
        told = [edge_sentence(edge) for edge in result.edges() if edge.is_clear]
        text = " ".join(told) or "No varied quantity alone parts failed from passed trials more than chance would."
        found.append(("Where it fails", text, _svg(parted)))
    if comparison and comparison.differences:
        text = (
            "Dots: one a pair of trials that met the same draws. Diamond and bar: their median and its 95 % interval. "
            "Where the bar holds zero, the trials do not tell the two apart."
        )
        found.append(("Paired differences", text, _svg(figures.differences(result, comparison))))
    return found


def _svg(figure: Figure) -> Markup:
    out = StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    return Markup(text[text.index("<svg") :])
