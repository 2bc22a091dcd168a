"""The fault sweep: a cycle that passes is run again under every fault in every step, and each run is judged.

    reference ──> faults x steps ──> a run each, from a checkpoint ──> verdict ──> matrix

What one fault does is simulated in `trial`, judged in `verdicts`; `work` spreads the runs over processes, `matrix` holds
what came of them. Nothing here knows how it is shown.
"""
