"""Recording a run: what a training script calls, and what becomes of it on the way to the spool."""
