"""Rules on recipes: values for what is no setting or cannot hold them, two that say the same."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.language.literals import value_problem
from spokeshave.model.diagnostics import Diagnostic, Place, did_you_mean
from spokeshave.model.project import SignalClass
from spokeshave.verify.check.look import Look, advice, warning


def no_setting(look: Look) -> Iterator[Diagnostic]:
    """A value for what is no setting, or one that the setting cannot hold."""
    for r in look.project.recipes:
        for name, value in r.values:
            signal, here = look.project.signal(name), Place("recipe", item=r.name)
            if signal is None or signal.cls is not SignalClass.SETTING:
                told = f"{name} is an {signal.cls}, no setting" if signal is not None else f"there is no setting {name}"
                known = [s.name for s in look.project.settings]
                yield warning("recipe-no-setting", here, told, did_you_mean(name, known) or "take the value out")
            elif problem := value_problem(value, signal.type):
                yield warning("recipe-no-setting", here, f"{name}: {problem}", "type another value")


def alike(look: Look) -> Iterator[Diagnostic]:
    """Two recipes that say the same."""
    first: dict[object, str] = {}
    for r in look.project.recipes:
        said = frozenset((n.lower(), v) for n, v in r.values)
        if r.values and said in first:
            yield advice("recipes-alike", Place("recipe", item=r.name), f"it says the same as {first[said]}",
                         "give one another value, or take one out")  # fmt: skip
        first.setdefault(said, r.name)


RULES = (no_setting, alike)
