"""The computing heart: takes parsed values, returns results; knows no file, clock, network or terminal."""
