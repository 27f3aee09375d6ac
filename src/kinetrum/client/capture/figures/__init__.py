"""Figures of Matplotlib that a tracked program or a notebook shows or saves, kept as media of the run.

`watching` finds them; it stands alone, since a tracked program may run where this package is not installed. `early`
is the folder by which Python loads it into such a program. `collecting` brings what a tracked program showed into its
run, `notebooks` what a notebook's cells show.
"""
