"""Looking before sending: what will go wrong with a message, and one page that shows it as its readers see it."""

from pathlib import Path

from pribble import Message, Rendering, TemplateFolder
from pribble.review import check, preview

DEMO = Path(__file__).parent.parent / "src/pribble/demo/templates"
OFFICE = "Skerrow Haven Berth Office <berths@skerrow.example>"


def compose(name: str, rendering: Rendering, data: object) -> Message:
    """The message as the application sends it."""
    return rendering.message(sender=OFFICE, to="ana@example.org", reply_to="desk@skerrow.example")


templates = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
found = check(templates["berth-confirmed"])
for finding in found.of("warning"):
    print(finding)
print(f"samples try {found.coverage['berth-confirmed']}")

Path("build").mkdir(exist_ok=True)
made = preview(templates, "build/preview.html", names=["berth-confirmed", "gate-code"], compose=compose)
print(f"{made.path}: {'sound' if made.check.is_sound else 'look at its findings'}")
