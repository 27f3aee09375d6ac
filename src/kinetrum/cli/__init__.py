"""The command line: one module per group of commands, forms of output in one place."""
