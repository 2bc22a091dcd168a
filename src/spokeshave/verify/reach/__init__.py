"""The reachability study: every situation a machine file can come to, whatever its inputs do and however long things take.

    machine file ──> studied: what matters ──> explored: frontiers of situations ──> answers, with the shortest way there

Situations are packed into whole numbers and explored a frontier at a time with NumPy. Only inputs that can change what
follows are tried, and of those only as many values as there are outcomes. Nothing here knows how it is shown.
"""
