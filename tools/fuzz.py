"""Coverage-guided fuzzing of templates from strangers: ``pip install atheris``, then ``python tools/fuzz.py SECONDS``.

What a template may do is compile or be refused with an error of ours.  One that compiles is rendered with a tame
value and hostile ones: what html5lib finds in the pages must be the same.  What is found is printed as a template,
to be kept as a case in ``tests/data``.
"""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

sys.path.insert(0, str(Path(__file__).parent.parent))

try:
    import atheris
except ImportError:
    sys.exit("atheris is not installed: pip install atheris")

with atheris.instrument_imports(include=["pribble.language", "pribble.markup", "pribble.compiler", "pribble.values"]):
    from pribble import Limits, PribbleError, Template, TemplateFolder

from tests.compiler.test_fuzz import PLACES, VALUES, structure

LIMITS = Limits(characters=20_000, output=200_000, text=20_000, turns=2_000)


def check(text: str, folder: TemplateFolder) -> None:
    """Raise for what must not be; errors of ours are answers."""
    try:
        template = Template.from_text(text, folder=folder)
        template.fields()
    except PribbleError as error:
        str(error)
        return
    tame = None
    for value in ("a", *VALUES):
        data = {"v": value, "c": True, "l": [1, 2]}
        try:
            rendering = template.render(data)
            html, _ = str(rendering.html), rendering.text
        except PribbleError:
            continue
        found = structure(html)
        tame = found if tame is None else tame
        assert found == tame, f"{value!r} changes what the page is made of"


def main() -> None:
    seconds = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    folder = TemplateFolder.nowhere()
    folder.world = type(folder.world)(folder.world.formatters, folder.world.common, LIMITS, folder.world.functions)

    def one(data: bytes) -> None:
        text = data.decode("utf-8", "replace")
        try:
            check(text, folder)
        except Exception:
            print(f"\nfound with the template {text!r}", file=sys.stderr)
            raise

    with TemporaryDirectory() as seeds, TemporaryDirectory() as dictionary:
        words = {word for _, pieces in PLACES for word in pieces.split("|")} | set(WORDS.split("|"))
        for number, (page, _) in enumerate(PLACES):
            Path(seeds, str(number)).write_text(page.replace("%s", "{{ v }}"), encoding="utf-8")
        listed = Path(dictionary, "words")
        listed.write_text("".join(f'"{escaped(word)}"\n' for word in sorted(words) if word), encoding="utf-8")
        options = {
            "max_total_time": seconds,
            "artifact_prefix": f"{seeds}/",
            "dict": listed,
            "max_len": 200,
            "timeout": 20,
        }
        atheris.Setup([sys.argv[0], *(f"-{name}={value}" for name, value in options.items()), seeds], one)
        atheris.Fuzz()


WORDS = (
    '{{ v }}|{{ if c: }}|{{ :else: }}|{{ :if }}|{{ for n in l: }}|{{ :for }}|{{ let x = v }}|<a href="|<td |style="|'
    '<style>|</style>|<!--[if mso]>|<![endif]-->|<script type="application/ld+json">|</script>|<img src="|srcset="|'
    "<title>|{{ v as html }}|{{ only text: }}|{{ :only }}|{{ subject: }}|{{ :subject }}|<svg>|<table>|<tr>|<td>"
)


def escaped(word: str) -> str:
    """A word as libFuzzer's dictionaries have it."""
    return "".join(
        c if c.isascii() and c.isprintable() and c not in '"\\' else "".join(f"\\x{b:02x}" for b in c.encode())
        for c in word
    )


if __name__ == "__main__":
    main()
