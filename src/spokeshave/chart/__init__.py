"""How a chart is drawn: where its steps stand, how its lines run, what is written on it. Units are pixels. Not here: Qt."""
