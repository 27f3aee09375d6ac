"""Recording a program from outside, without a changed line in it."""
