"""The HTTP service: routes parse, call one action, and shape its answer."""
