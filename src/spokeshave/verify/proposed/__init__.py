"""Scenarios that write themselves: runs that lead where no scenario has been, looked for with the devices as they are.

`goals` says what nothing shows yet, `hands` what an operator and free inputs can do in a situation, `search` tries it from step to
step, `faults` breaks devices where that is not enough, `circumstances` does again what leads round with power cuts and stops, `rows` makes a
scenario of a run. Nothing here knows an interface.
"""
