"""One sentence about every field of a form and every column head: what it is, for the tool tip and for screen readers."""

from __future__ import annotations

FIELDS = {
    "Action.target": "What is driven while the step is active: a qualifier, a time where it takes one, an output, an internal or a body.",
    "Body.name": "The name the step calls this text by.",
    "Connection.kind": "What goes from this device to the other one: material, motion, heat.",
    "Device.comment": "A word about the device, for those who read the machine.",
    "Device.declared": "The variables of an own device: what it reads, gives, and can fail with.",
    "Device.name": "What the device is called; scenarios and failures use this name.",
    "Device.parameters": "How fast, how large, how warm: what the stand-in goes by.",
    "Device.text": "The text of an own device, run once in every scan.",
    "Device.wires": "Which signal this terminal is wired to.",
    "Instance.kind": "Which timer, counter, edge or latch it is.",
    "Instance.name": "The name that texts call the block by.",
    "Project.comment": "A word about the machine.",
    "Project.home": "The condition that says the machine stands at home.",
    "Project.instances": "Timers, counters, edges and latches that texts call.",
    "Project.name": "What the machine is called, in titles and records.",
    "Project.period_ms": "How often the controller goes through its program, in milliseconds.",
    "Project.reset": "The condition whose rise ends latching trips that have lost their cause.",
    "Project.sequences": "The place of a sequence in the scan: they run in their order.",
    "Sequence.comment": "A word about the sequence.",
    "Sequence.hold_outputs": "Whether outputs stay as they are while the sequence is held, or are dropped.",
    "Sequence.hold_when": "While this condition is TRUE the sequence waits where it is, and its times stand still.",
    "Sequence.initial": "The step that is active when the machine starts.",
    "Sequence.name": "What the sequence is called; its steps are read as Sequence.Step.",
    "Sequence.restart_when": "When this condition rises the sequence begins anew at its initial step.",
    "Sequence.retain": "Whether the active steps survive a loss of power.",
    "Signal.address": "Where it is wired to at the controller, such as %IX0.3.",
    "Signal.cls": "Input, output, internal, setting or constant.",
    "Signal.comment": "A word about the signal, as it stands in the list of terminals.",
    "Signal.contact": "NO closes when pressed; NC opens, so that a broken wire stops the machine.",
    "Signal.home": "The value it has when the machine is at home.",
    "Signal.initial": "The value it begins with.",
    "Signal.name": "The name in conditions and texts; renaming changes every place.",
    "Signal.retain": "Whether its value survives a loss of power.",
    "Signal.type": "BOOL, a whole number, REAL or TIME.",
    "Signal.unit": "The unit of a number, such as mm or °C.",
    "Step.comment": "A word about what the step is for.",
    "Step.longest": "How long the step may last before it is late.",
    "Step.name": "What the step is called; conditions read Step.X and Step.T.",
    "Step.number": "The value of the state variable while the step is active.",
    "Step.permissive": "The step is entered only while this condition is TRUE.",
    "Step.response": "What happens when the step is late: only an alarm, a hold, or a trip.",
    "Step.shortest": "How long the step has to last: leaving earlier is an alarm.",
    "Transition.condition": "What has to be TRUE for the sequence to go on.",
    "Transition.name": "A name for the way out, for those who read the chart.",
    "Transition.priority": "Which way is taken when several conditions are TRUE: the lowest number.",
}  # fmt: skip
"""By the field of the machine file that is changed."""

SHEET = {
    "Flow": "The track: branches leave and join, loops run back in lanes of their own.",
    "No.": FIELDS["Step.number"],
    "Step": FIELDS["Step.name"],
    "Awaits": FIELDS["Transition.condition"],
    "Window": "How long the step may last, at least or at most: 6s, 1s to 6s, at least 1s.",
    "Ends at": "When the step ends in a cycle of fixed times; an end that is typed moves no other end.",
    "Next": "The step that follows, by name or number; several are joined by +.",
    "Comment": FIELDS["Step.comment"],
    "Lasted": "The least, mean and greatest time of the step in the last run.",
    "Last run": "When the step was active in the last cycle.",
}
BRIEF = {
    "Id": "What the sentence is called, such as R07.",
    "Requirement": "What the machine must do, in one sentence with its numbers.",
    "Kind": "What the sentence is about: order, time, interlock, fault, recovery, manual.",
    "Shown by": "The scenarios, rules and findings that show it.",
    "State": "Proven when all that shows it passes, and nothing has changed since.",
}
SIGNALS = {
    "Name": FIELDS["Signal.name"], "Class": FIELDS["Signal.cls"], "Type": FIELDS["Signal.type"], "Address": FIELDS["Signal.address"],
    "Contact": FIELDS["Signal.contact"], "Initial": FIELDS["Signal.initial"], "Home": FIELDS["Signal.home"], "Unit": FIELDS["Signal.unit"],
    "Device": "The device of the stand-in that gives it or is driven by it.",
    "Use": "How many places speak of it; the list at the right has each.",
    "Comment": FIELDS["Signal.comment"],
}  # fmt: skip
ROWS = {
    "When": "The moment: at 2 s, after 500 ms, when a condition comes true, on Sequence.Step.",
    "What": "What is done to the machine, or what is expected of it.",
    "Verdict": "Whether the expectation held in the last run.",
    "At": "The time of the run that decided it; a double click shows it on the bench.",
    "Because": "What was seen instead.",
}
VALUES = {
    "Signal": "Signals, step times, timers and counters of the machine file.",
    "Value": "The value now, or at the time that is looked at; inputs and settings are set by typing.",
    "Forced to": "The value that holds whatever the program or the machine gives; empty it to let go.",
}
ALARMS = {
    "Alarm": "What it is called, in scenarios too: its own name, or what raises it.",
    "Raised when": "The condition of an alarm of its own; of others what raises them.",
    "Text": "What the operator reads. Values stand in braces: {Temp:1} is Temp with one digit behind the point.",
    "Class": "How urgent it is: a message, a warning or a fault.",
    "Delay": "How long the condition has to be TRUE before the alarm comes.",
    "Points at": "The device to look at: the fault sweep takes a fault of it as told.",
    "Shown by": "The scenarios that expect it; a double click opens one.",
}
RECIPES = {
    "Setting": "A setting, or a cell of a table of settings.",
    "Unit": "What its number counts.",
    "In the file": "What it is where no recipe is taken and nobody has typed anything.",
    "Recipe": "What it is set to when this recipe is taken; empty: it stays as it is.",
}
MATRIX = {
    "Kind": "How the rule protects: interlock, opposed pair, trip, hold, permissive, window.",
    "Cause": "The condition under which it acts.",
    "Shown by": "The scenarios in whose passing runs it came into play.",
}
