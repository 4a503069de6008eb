"""Check an installed wheel: Pribble alone, without extras, renders a message with a picture.

Run by .ci/run with the interpreter of an environment that has the wheel and nothing else, outside of the repository.
"""

from __future__ import annotations

from email import message_from_bytes, policy
from importlib.metadata import metadata
from importlib.util import find_spec
from pathlib import Path
from tempfile import TemporaryDirectory

import pribble
from pribble import MissingExtra, TemplateFolder, delivery
from pribble.cli import main

EXTRAS = ("aiosmtpd", "flask", "icalendar", "matplotlib", "pandas", "psycopg", "sqlalchemy", "watchfiles")


def check() -> None:
    home = Path(pribble.__file__).parent
    assert "site-packages" in home.parts, f"this is the pribble of {home}, and not an installed one"
    assert not any(map(find_spec, EXTRAS)), "there are extras here"
    assert (home / "py.typed").is_file()
    about = metadata("pribble")
    assert (about["Version"], about["License-Expression"]) == (pribble.__version__, "MIT"), about

    template = TemplateFolder(home / "demo/templates", locale="en_GB")["berth-confirmed"]
    rendering = template.render(template.samples[""])
    raw = bytes(rendering.message(sender="berths@skerrow.example", to="ana@example.org"))
    message = message_from_bytes(raw, policy=policy.default)
    pictures = [part for part in message.walk() if part.get_content_maintype() == "image"]
    assert len(pictures) == 2 and all(part.get_content() for part in pictures), message

    assert main(["render", "gate-code", "--templates", str(home / "demo/templates"), "--format", "subject"]) == 0
    assert main(["receive", "--port", "0"]) == 2, "without aiosmtpd there is no receiver"
    looked_at = ["preview", "gate-code", "--templates", str(home / "demo/templates")]
    with TemporaryDirectory() as folder:
        assert main([*looked_at, "--out", f"{folder}/preview.html"]) == 0
        assert (Path(folder) / "preview.html").stat().st_size > 50_000
    assert main([*looked_at, "--serve"]) == 2, "without flask there is no live preview"
    assert main(["journal", "no.journal"]) == 2, "without SQLAlchemy there is no journal"
    for asked, extra in (
        (lambda: pribble.Picture.from_figure(object()), "charts"),
        (lambda: delivery.Batch, "journal"),
    ):
        try:
            asked()
        except MissingExtra as error:
            assert f"pribble[{extra}]" in str(error)
        else:
            raise AssertionError(f"it went without the extra {extra}")
    print(f"the wheel of {pribble.__version__} is whole")


if __name__ == "__main__":
    check()
