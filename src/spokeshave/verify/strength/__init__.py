"""Strength: would the scenarios notice a mistake? Small mistakes of the trade are planted one at a time, and all that proves is asked.

machine file ──planted──> mistakes ──noticed──> check, scenarios, accepted runs, study ──report──> what nobody would notice, and what would
"""
