"""Write the transcripts anew."""

from tests.core.transcripts import FOLDER, lines_of
from tests.core.transcripts.topics import TOPICS

for name, topic in TOPICS.items():
    (FOLDER / f"{name}.txt").write_text("\n".join(lines_of(topic())) + "\n", encoding="utf-8")
