"""Rules on alarms: words for what raises none, devices that there are not, two that say the same."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.model.alarm_sources import sources
from spokeshave.model.diagnostics import Diagnostic, Place, did_you_mean
from spokeshave.verify.check.look import Look, advice, warning


def of_nothing(look: Look) -> Iterator[Diagnostic]:
    """Words for a window, trip or hold that is not there any more."""
    known = [source.on for source in sources(look.project) if source.on]
    there = {on.lower() for on in known}
    for a in look.project.alarms:
        if a.on and a.on.lower() not in there:
            yield warning("alarm-of-nothing", Place("alarm", item=a.on), f"there is no {a.on} that could raise it",
                          did_you_mean(a.on, known) or "take its words out, or give the step its window back")  # fmt: skip


def no_device(look: Look) -> Iterator[Diagnostic]:
    """An alarm that points at a device that is not there."""
    for a in look.project.alarms:
        if a.device and look.project.device(a.device) is None:
            yield warning("alarm-no-device", Place("alarm", item=a.on or a.name), f"it points at {a.device}, which is no device",
                          did_you_mean(a.device, (d.name for d in look.project.devices)) or "name a device, or none")  # fmt: skip


def same_words(look: Look) -> Iterator[Diagnostic]:
    """Two alarms with one text: who reads it does not know where to look."""
    first: dict[str, str] = {}
    for a in look.project.alarms:
        text = " ".join(a.text.lower().split())
        if text and text in first:
            yield advice("alarms-alike", Place("alarm", item=a.on or a.name), f"it says the same as {first[text]}",
                         "say in each text where to look")  # fmt: skip
        first.setdefault(text, a.on or a.name)


RULES = (of_nothing, no_device, same_words)
