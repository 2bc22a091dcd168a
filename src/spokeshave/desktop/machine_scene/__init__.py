"""The machine as it is drawn: painted from the run, laid out on a grid."""
