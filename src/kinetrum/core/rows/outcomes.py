"""What a joined row came to. A room of its own because the command line lists these without what they are told from."""

# Of predictions: what the right table made of the row; of other tables: whether it differs.
OUTCOMES = (
    "newly wrong",
    "newly right",
    "both wrong",
    "both right",
    "farther",
    "nearer",
    "as near",
    "changed",
    "same",
    "only left",
    "only right",
)
