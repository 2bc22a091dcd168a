"""Charts as plain structured text: a machine file written out, phase by phase, as one program that scans.

`write` puts the phases together, `styles` writes the evolution (a CASE for each thread of a chart, or step flags),
`protect` phase 5 and `control` phase 7; `read` takes an edited text back in.
Nothing here runs anything: that the program does what the chart does is shown in `verify.equivalence`.
"""
