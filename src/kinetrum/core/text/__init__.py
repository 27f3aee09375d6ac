"""Texts: printed lines, secrets taken out, directives that a program prints, options of commands, names of runs."""
