"""How good predictions are: results of classification, regression and ranking, from truths and predictions."""

from kinetrum.core.evaluation.evaluate import Evaluation, evaluate

__all__ = ["Evaluation", "evaluate"]
