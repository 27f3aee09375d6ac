"""The demo: Kestrel Fold, a cider orchard on a hillside that forecasts frost in blossom weeks."""
