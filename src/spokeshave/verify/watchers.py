"""Which watcher follows which kind of expectation."""

from __future__ import annotations

from spokeshave.verify.cycles import Cycles
from spokeshave.verify.expectations import (
    Alarms,
    Always,
    Counted,
    LeadsTo,
    NotBefore,
    Steps,
    Throughout,
    TrueAt,
    ValueFrom,
    Watcher,
)

WATCHERS: dict[str, type[Watcher]] = {
    "always": Always,
    "never": Always,
    "not_before": NotBefore,
    "true_at": TrueAt,
    "true_by": TrueAt,
    "true_finally": TrueAt,
    "leads_to": LeadsTo,
    "order": Steps,
    "exact_order": Steps,
    "reach": Steps,
    "lasts_least": Steps,
    "lasts_most": Steps,
    "alarm": Alarms,
    "no_alarm": Alarms,
    "no_alarms": Alarms,
    "no_hazards": Alarms,
    "entered": Counted,
    "entered_least": Counted,
    "entered_most": Counted,
    "count": Counted,
    "count_least": Counted,
    "count_most": Counted,
    "true_from": Throughout,
    "while_true": Throughout,
    "value_from": ValueFrom,
    "cycle": Cycles,
    "cycle_least": Cycles,
    "cycle_most": Cycles,
}
