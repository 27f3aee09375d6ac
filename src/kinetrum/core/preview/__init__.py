"""A look into a file without downloading it: bounded in what is read, computed and returned."""

from kinetrum.core.preview.forms import FORMS_APART, HEAD_BYTES, form_of, preview_head
from kinetrum.core.preview.shown import Fact, Preview, Row

__all__ = ["FORMS_APART", "HEAD_BYTES", "Fact", "Preview", "Row", "form_of", "preview_head"]
