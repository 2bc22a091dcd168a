"""The desktop: the only folder that knows Qt.

Widgets show the document and the run, and ask for named edits; they decide nothing that could be tested without a
window. One folder a stage, the rest is shared: theme, icons, table of commands, document, runner, panels.
"""
