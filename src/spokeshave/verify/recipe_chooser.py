"""Recipes that the machine chooses by itself: a form that turns them into rows of a table of settings, and reads the row that an input names.

Afterwards nothing is hidden: the table is edited like any other, the values are internals that a few lines of opening logic set in each scan.
"""

from __future__ import annotations

from dataclasses import replace

from spokeshave.engine.link import link_problems
from spokeshave.model.edits import EditError, free_name, taken_names
from spokeshave.model.project import Column, Project, Signal, SignalClass, Table, Type
from spokeshave.verify.scenario_language import scenario_problems

WHOLE = (Type.INT, Type.DINT)


def choosers(project: Project) -> list[str]:
    """Signals by which recipes could be chosen: inputs first, and whole numbers before a BOOL, which chooses of two."""
    types = (*WHOLE, Type.BOOL) if len(project.recipes) == 2 else WHOLE
    order = (SignalClass.INPUT, SignalClass.SETTING, SignalClass.INTERNAL)
    fit = [s for s in project.signals if s.type in types and s.cls in order]
    return [s.name for s in sorted(fit, key=lambda s: (order.index(s.cls), s.type is Type.BOOL))]


def choose_by(project: Project, chooser: str) -> Project:
    """The machine file in which a signal chooses among its recipes: the number of the recipe, from 1; of a BOOL the second while it is TRUE.

    Raises `EditError` for a signal that cannot choose, for recipes that have to be taken otherwise, and for a file that could not run
    any more, with the reason.
    """
    signal, recipes = project.signal(chooser), project.recipes
    if len(recipes) < 2:
        raise EditError("there is nothing to choose: make two recipes at least")
    if signal is None or signal.name not in choosers(project):
        kinds = "a BOOL or a whole number" if len(recipes) == 2 else "a whole number"
        raise EditError(f"{chooser} cannot choose among {len(recipes)} recipes; it takes {kinds}")
    spoken = {n.lower() for r in recipes for n, _ in r.values}
    settings = [s for s in project.settings if s.name.lower() in spoken]
    cell = next((s.name for s in settings if project.signal(s.name) not in project.signals), "")
    if cell:
        raise EditError(f"{cell} is a cell of a table: read the table by {signal.name} instead")
    if signal in settings:
        raise EditError(f"{signal.name} is in the recipes itself")
    made = _made(project, signal, settings)
    before = {
        *map(str, link_problems(project)),
        *(str(p) for s in project.scenarios for p in scenario_problems(project, s)),
    }
    for problem in link_problems(made):
        if str(problem) not in before:
            raise EditError(f"then the machine could not run: {problem}")
    for s in made.scenarios:
        for p in scenario_problems(made, s):
            if str(p) not in before:
                raise EditError(f"then the scenario {s.name} could not run: {p.message}")
    return made


def _made(project: Project, chooser: Signal, settings: list[Signal]) -> Project:
    taken = taken_names(project)
    table, now = free_name("Products", taken), free_name("Product", taken)
    rows = []
    for r in project.recipes:
        said = ((r.value(s.name), s.start) for s in settings)
        rows.append(tuple(start if value is None else value for value, start in said))
    row = f"SEL({chooser.name}, 1, 2)" if chooser.type is Type.BOOL else f"LIMIT(1, {chooser.name}, {len(rows)})"
    lines = [f"(* the product that {chooser.name} chooses *)", f"{now} := {row};"]
    lines += [f"{s.name} := {table}[{now}].{s.name};" for s in settings]
    names = {s.name for s in settings}
    signals = tuple(
        replace(s, cls=SignalClass.INTERNAL, initial=rows[0][[x.name for x in settings].index(s.name)])
        if s.name in names
        else s
        for s in project.signals
    )
    kept = Table(
        table, SignalClass.SETTING, tuple(Column(s.name, s.type) for s in settings), tuple(rows), row_type=free_name("ProductRow", taken),
        comment=", ".join(f"{n} {r.name}" for n, r in enumerate(project.recipes, 1)),
    )  # fmt: skip
    opening = "\n".join(lines) + "\n"
    counted = Signal(now, SignalClass.INTERNAL, chooser.type if chooser.type in WHOLE else Type.INT, initial=1)
    return replace(
        project, signals=(*signals, counted), tables=(*project.tables, kept), recipes=(),
        opening=opening + project.opening if project.opening.strip() else opening,
    )  # fmt: skip
