"""All topics of which there is a transcript."""

from tests.core.transcripts import numbers, queries, registry

TOPICS = {**registry.TOPICS, **queries.TOPICS, **numbers.TOPICS}
