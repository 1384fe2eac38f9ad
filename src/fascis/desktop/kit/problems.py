"""The problems of a plan, in the side panel."""

from __future__ import annotations

from fascis.crossing.plan.plan import Plan
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import row, rule
from fascis.files.codes import Severity
from fascis.files.names import shown

_MARKS = {Severity.STOPS: "Stops", Severity.DECISION: "Decide", Severity.NOTE: ""}


def tell_problems(panel: SidePanel, plan: Plan) -> None:
    """A line for each: what is wrong, how bad that is, what can be done, which files."""
    if not plan.problems:
        return
    if plan.stopped:
        panel.head("Before it can start")
    else:
        panel.head("To decide" if plan.asks else "Good to know")
    for problem in plan.problems:
        files = "; ".join(shown(p) for p in problem.files[:2])
        if len(problem.files) > 2:
            files += " …"
        made = row(
            problem.sentence,
            _MARKS[problem.severity],
            " ".join(filter(None, (problem.remedy, files))),
            wrong=problem.severity is Severity.STOPS,
        )
        panel.add(made)
        panel.add(rule())
