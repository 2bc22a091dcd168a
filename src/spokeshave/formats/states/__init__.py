"""State programs written by hand: read, and put into the form a person would draw.

`find` takes a text apart (the state, its branches, what stands above and below), `flow` follows every branch for the ways
from state to state, `outputs` says which variables follow the state, `clocks` which timers do, `lift` puts the sequence together.
Nothing here runs anything: whether the sequence does what the text does is shown in `spokeshave.reading`.
"""
