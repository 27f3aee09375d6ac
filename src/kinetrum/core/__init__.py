"""Pure computation: no clock, no input or output, no framework, no database."""
