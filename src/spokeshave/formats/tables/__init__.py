"""Tables that people have: workbooks and texts into cells, headings found, columns given a meaning, rows into steps.

file ──grid──> sheets of cells ──headings──> what each column is ──marks, flow──> a sequence with its signals
"""
