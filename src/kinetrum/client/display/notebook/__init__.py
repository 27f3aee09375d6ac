"""What shows itself in a notebook and can be touched: parallel coordinates whose selection the next cell reads."""

from kinetrum.client.display.notebook.parallel import Parallel

__all__ = ["Parallel"]
