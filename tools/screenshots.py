"""Make the pictures in docs/screenshots from the demo's data.

    python -m tools.screenshots

Needs Chromium for pages, and xterm, Xvfb and ImageMagick's import for the terminal.
"""

from __future__ import annotations

import base64
import io
import os
import shutil
import subprocess
import sys
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont
from tests.chromium import Browser, browser, picture

from pribble import TemplateFolder
from pribble.delivery.faults import DEFERRED, REFUSED, Faults, Refusal
from pribble.delivery.receiver import Manner, Receiver
from pribble.demo import TEMPLATES, charted, run_demo
from pribble.review import known_viewers, preview, simulate

ROOT = Path(__file__).parent.parent
SHOTS = ROOT / "docs/screenshots"
SIZE = (1280, 800)


def pages(folder: Path, shown: dict[str, str]) -> None:
    """The first page as Chromium shows it, and all of them wide and narrow, light and dark in one picture."""
    views = []
    window = browser()
    for name, html in shown.items():
        if name == "berth-confirmed":
            (folder / f"{name}.png").write_bytes(picture(window, html, width=SIZE[0]))
            print(folder / f"{name}.png")
        for width in (700, 390):
            for scheme in ("light", "dark"):
                views.append(Image.open(io.BytesIO(picture(window, html, width=width, scheme=scheme))))
    rows = [views[index : index + 4] for index in range(0, len(views), 4)]
    size = max(sum(view.width for view in row) for row in rows), sum(max(view.height for view in row) for row in rows)
    whole = Image.new("RGB", size, "white")
    top = 0
    for row in rows:
        left = 0
        for view in row:
            whole.paste(view, (left, top))
            left += view.width
        top += max(view.height for view in row)
    small = whole.resize((1400, whole.height * 1400 // whole.width), Image.Resampling.LANCZOS)
    small.quantize(256).save(folder / "schemes.png", optimize=True)
    print(folder / "schemes.png")


NOTE = ROOT / "build/notes/notice.html"
NOTICE = """<!DOCTYPE html>
<html><head><title>Notice</title><style>
  p { margin: 0 0 16px 0; color: #1d2b36 }
  .loud { color: #a8412b; font-weight: bold }
  a { color: #1f7a7a } a:hover { color: #14364f }
  @media (prefers-color-scheme: dark) { p { color: #e8eef1 } .loud { color: #f0a48f } }
</style></head>
<body style="padding: 24px">
<p class="loud">Pier C is closed on Tuesday.</p>
<p>Boats there may lie at <a href="https://skerrow.example/pier-b">pier B</a>, free of charge.</p>
</body></html>
"""


LETTER = """From: Skerrow Haven, Berth Office <berths@skerrow.example>
To: ana@example.org
Subject: =?utf-8?Q?Your berth for the night: =E2=82=AC 38.50?=
Date: Don, 16 Jul 2026 18:02:11 +0100
Message-ID: <20260716180211.B14@skerrow.example>
MIME-Version: 1.0
Content-Type: multipart/related; type="text/html"; boundary=part

--part
Content-Type: text/html; charset=utf-8
Content-Transfer-Encoding: quoted-printable

<p style=3D"margin:0">Good evening Zo=C3=AB, your berth is B 14.</p>
<img src=3D"cid:logo@skerrow.example" alt=3D"Skerrow Haven">
--part
Content-Type: image/png
Content-Transfer-Encoding: base64
Content-ID: <crest@skerrow.example>
Content-Disposition: inline; filename=Logo für Mails.png

iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9
awAAAABJRU5ErkJggg==
--part--
"""


@contextmanager
def screen() -> Iterator[str]:
    """A virtual screen; gives its name."""
    display = f":{90 + os.getpid() % 100}"
    server = subprocess.Popen(["Xvfb", display, "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.5)
        yield display
    finally:
        server.terminate()
        server.wait()


def terminal(commands: list[str], name: str, *, columns: int = 104, rows: int = 38, size: str = "12") -> None:
    """A terminal in which these commands were typed."""
    script = "; ".join(f"echo; printf '\\033[1m$ %s\\033[0m\\n' {quoted(c)}; {c}" for c in commands)
    bin_folder = Path(sys.executable).parent
    done = ROOT / "build/notes/done"
    done.parent.mkdir(parents=True, exist_ok=True)
    done.unlink(missing_ok=True)
    with screen() as display:
        window = subprocess.Popen(
            [
                "xterm",
                "-display",
                display,
                "-geometry",
                f"{columns}x{rows}+0+0",
                "-fa",
                "DejaVu Sans Mono",
                "-fs",
                size,
                "-bg",
                "#fdfdfb",
                "-fg",
                "#1d2b36",
                "-e",
                "bash",
                "-c",
                f"{script}; touch {done}; sleep 60",
            ],
            cwd=ROOT,
            env={**os.environ, "PATH": f"{bin_folder}:{os.environ['PATH']}", "LC_ALL": "C.UTF-8"},
        )
        for _ in range(120):
            time.sleep(0.5)
            if done.exists():
                break
        time.sleep(1)
        subprocess.run(["import", "-display", display, "-window", "root", str(SHOTS / name)], check=True)
        subprocess.run(["mogrify", "-trim", "+repage", str(SHOTS / name)], check=True)  # the bare screen around it
        window.terminate()
        window.wait()
    print(SHOTS / name)


def quoted(command: str) -> str:
    return "'" + command.replace("'", "'\\''") + "'"


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    NOTE.parent.mkdir(parents=True, exist_ok=True)
    NOTE.write_text(NOTICE, encoding="utf-8")
    if missing := [tool for tool in ("chromium", "xterm", "Xvfb", "import", "mogrify") if not shutil.which(tool)]:
        sys.exit(f"not installed: {', '.join(missing)}")
    templates = TemplateFolder(TEMPLATES, locale="en_GB", timezone="Europe/London", embed="data")
    statement, _ = charted(templates["mooring-statement"].samples[""])
    data = {"berth-confirmed": templates["berth-confirmed"].samples[""], "mooring-statement": statement}
    pages(SHOTS, {name: str(templates[name].render(values).html) for name, values in data.items()})
    note = NOTE.relative_to(ROOT)
    calls = [f"cat {note}", f"pribble convert {note} --format fragment", "pribble fields mooring-statement"]
    terminal(calls, "convert.png", columns=112, rows=46, size="9")
    terminal(["pribble demo --out build/demo"], "demo.png", rows=60, size="8")
    terminal(["pribble render berth-confirmed --format text --quiet"], "plain-text.png", columns=80, rows=42)
    delivered("build/notes")
    batched("build/notes/batch")
    posted(ROOT / "build/notes/post")
    served(ROOT / "build/notes/serve")
    letter = ROOT / "build/notes/letter.eml"
    letter.write_bytes(LETTER.replace("\n", "\r\n").encode())
    terminal(["pribble audit build/notes/letter.eml"], "audit.png", columns=100, rows=58, size="9")
    mistakes(ROOT / "build/notes")
    checked(ROOT / "build/notes/checked")
    viewed("berth-confirmed")
    previewed(ROOT / "build/notes")
    brought_in(ROOT / "build/notes/adopted")
    changed(ROOT / "build/notes/repository")


def viewed(name: str) -> None:
    """What each viewer that shows pages makes of a message, beside each other."""
    templates = TemplateFolder(TEMPLATES, locale="en_GB", timezone="Europe/London")
    rendering = templates[name].render(templates[name].samples[""])
    message = rendering.message(sender="berths@skerrow.example", to="ana@example.org")
    drawn: list[tuple[str, Image.Image]] = []
    for viewer in known_viewers().values():
        view = simulate(message, viewer)
        if view.html is not None:
            png = picture(browser(), view.html, width=min(view.width, 700))
            whole = Image.open(io.BytesIO(png)).convert("RGB")
            part = whole.crop((0, 0, whole.width, min(whole.height, 1000)))
            drawn.append((viewer.name, part.resize((part.width * 2 // 5, part.height * 2 // 5))))
    rows = [drawn[:4], drawn[4:]]
    width = max(sum(image.width + 12 for _, image in row) for row in rows)
    sheet = Image.new("RGB", (width, sum(max(image.height for _, image in row) + 30 for row in rows)), "#fdfdfb")
    top = 0
    for row in rows:
        left = 6
        for called, image in row:
            ImageDraw.Draw(sheet).text((left, top + 6), called, fill="#1d2b36", font=ImageFont.load_default(14))
            sheet.paste(image, (left, top + 26))
            left += image.width + 12
        top += max(image.height for _, image in row) + 30
    sheet.save(SHOTS / "viewers.png", optimize=True)
    print(SHOTS / "viewers.png")


# Six mistakes in a copy of the demo: what stands there, and what takes its place.
UNSEEN = {
    'Dear {{ skipper.name? else "skipper" }},': "Dear {{ skipper.name? }},",
    "Pier {{ berth.pier }}: berths with even numbers": "Pier [PIER]: berths with even numbers",
    ' alt="Map of the harbour with pier {{ berth.pier }}"': "",
    'width="536"': 'width="536" height="120"',
    "href = booking.link,": 'href = "http://localhost:8000/bookings",',
    '<p class="note"><span>': '<p class="note"><span style="color:#c9a45c">',
}


def checked(folder: Path) -> None:
    """Six mistakes in a copy of the demo that nobody would see at their desk, and what `check` says of them."""
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(TEMPLATES, folder)
    template = folder / "berth-confirmed.html"
    text = template.read_text(encoding="utf-8")
    for right, wrong in UNSEEN.items():
        if text.count(right) != 1:
            sys.exit(f"the demo has {text.count(right)} times {right!r}")
        text = text.replace(right, wrong)
    template.write_text(text, encoding="utf-8")
    (folder / "berth-confirmed.de.html").unlink()
    here = folder.relative_to(ROOT)
    terminal(
        [f"pribble check berth-confirmed --templates {here} --no-notes"], "check.png", columns=112, rows=42, size="9"
    )


DESIGN = """<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Spring tide, [name]</title>
<link rel="stylesheet" href="css/main.css"><script src="js/menu.js"></script></head>
<body><p><img src="img/Logo (1).png" width="56" height="56" alt="Skerrow Haven"></p>
<h1>High water on Friday</h1>
<p>Dear [name], berth <strong>B 14</strong> lies under springs on 3 July.
<a href="https://skerrow.example/b/SH-1?who=[name]">Your booking</a></p>
<p>%%FOOTER%%</p><img src="https://count.example/p.gif" width="1" height="1" alt=""></body></html>
"""


def brought_in(folder: Path) -> None:
    """A designer's export, and what `adopt` says of it."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    with zipfile.ZipFile(folder / "spring.zip", "w") as archive:
        archive.writestr("export/index.html", DESIGN)
        archive.writestr(
            "export/css/main.css", "h1 { color: #14364f } body { background: url(../img/wave.png) repeat-x }"
        )
        for name, picture_ in (("Logo (1)", "logo"), ("wave", "pier-a")):
            archive.write(TEMPLATES / f"pictures/{picture_}.png", f"export/img/{name}.png")
        archive.writestr("__MACOSX/export/._index.html", b"")
    here = folder.relative_to(ROOT)
    call = f"pribble adopt {here}/spring.zip --into {here}/templates --name spring-tide"
    field = "--placeholder '\\[(\\w+)\\]' --field 'B 14=berth.name'"
    terminal([f"{call} {field}"], "adopt.png", columns=112, rows=26, size="9")


def delivered(folder: str) -> None:
    """What becomes of a message where a receiver refuses, defers and drops; and a draft."""
    for name in ("in", "drafts"):
        shutil.rmtree(ROOT / folder / name, ignore_errors=True)
    told = ROOT / folder / "receive.txt"
    faults = ["--refuse", "*@closed.example", "--defer", "busy@*:1", "--drop-after", "1"]
    with open(told, "w", encoding="utf-8") as out:
        receiver = subprocess.Popen(
            [sys.executable, "-m", "pribble", "receive", "--port", "8025", "--folder", f"{folder}/in", *faults],
            stdout=out,
            cwd=ROOT,
        )
        try:
            while not told.read_text(encoding="utf-8"):
                time.sleep(0.1)
            people = "--to ana@example.org --to bo@closed.example --to busy@example.net"
            send = f"pribble send gate-code --quiet {people} --through smtp://127.0.0.1:8025"
            draft = "pribble send gate-code --quiet --to ana@example.org --bcc desk@example.net --draft"
            draft += f" --through folder:{folder}/drafts"
            calls = [send, send, f"cat {folder}/receive.txt", draft, f"head -n 8 {folder}/drafts/*.eml"]
            terminal(calls, "send.png", columns=132, rows=36, size="9")
        finally:
            receiver.terminate()
            receiver.wait()


SIX_MISTAKES = (
    ("pier-{{ berth.pier as lower }}@", "pier-{{ berth.pier as lower }@"),
    ('when = "requests?"', 'when = "requests? >"'),
    ("Harbour desk <desk@skerrow.example>", "Harbour desk <desk@@skerrow.example>"),
    ('template = "berth-confirmed"', 'template = "berth-confirmd"'),
    ('through = "review"', 'through = "reviw"'),
    ('valid_for = "2 hours"', 'valid_for = "two hours"'),
)


def posted(folder: Path) -> None:
    """An event that is posted twice; and a copy of the settings with six mistakes."""
    shutil.rmtree(folder, ignore_errors=True)
    settings = (TEMPLATES.parent / "pribble.toml").read_text(encoding="utf-8")
    wrong = settings
    for right, mistake in SIX_MISTAKES:
        wrong = wrong.replace(right, mistake)
    with Receiver(folder / "in") as receiver:
        settings = settings.replace("smtp://127.0.0.1:8025", receiver.address)
        for name, text in (("good", f'journal = "post.journal"\n{settings}'), ("wrong", wrong)):
            shutil.copytree(TEMPLATES, folder / name / "templates")
            (folder / name / "pribble.toml").write_text(text, encoding="utf-8")
        post = "pribble post berth-booked --data templates/berth-confirmed.sample.json"
        here = folder.relative_to(ROOT)
        terminal(
            [f"cd {here}/good", post, post, "cd ../wrong", "pribble post --check"],
            "post.png",
            columns=124,
            rows=44,
            size="9",
        )


def served(folder: Path) -> None:
    """A server that is asked for an event, and for what cannot be made; what it logs of it."""
    shutil.rmtree(folder, ignore_errors=True)
    settings = (TEMPLATES.parent / "pribble.toml").read_text(encoding="utf-8")
    token = "a-token-that-is-long-enough"
    with Receiver(folder / "in", manner=Manner(Faults([Refusal("desk@*", *REFUSED)]))) as receiver:
        shutil.copytree(TEMPLATES, folder / "templates")
        settings = settings.replace("smtp://127.0.0.1:8025", receiver.address)
        (folder / "pribble.toml").write_text(f'journal = "post.journal"\n{settings}', encoding="utf-8")
        (folder / "headers").write_text(f"Authorization: Bearer {token}\nContent-Type: application/json\n")
        with open(folder / "log", "wb") as log:
            command = [sys.executable, "-m", "pribble", "serve"]
            environment = {**os.environ, "PRIBBLE_TOKEN": token}
            server = subprocess.Popen(command, cwd=folder, env=environment, stdout=log)
        while not (folder / "log").read_bytes():
            time.sleep(0.1)
        ask = "curl -s 127.0.0.1:8026/{} -H @headers {}"
        try:
            terminal(
                [
                    f"cd {folder.relative_to(ROOT)}",
                    ask.format("events/berth-booked", "-d @templates/berth-confirmed.sample.json"),
                    ask.format("events/berth-booked/SH-2026-0417", "-o answer.json -w '%{http_code}'"),
                    ask.format("templates/gate-code/render", '-d \'{"data": {"code": 4719, "berth": {"pier": "B"}}}\''),
                    ask.format("templates/gate-code/fields", ""),
                    "curl -s 127.0.0.1:8026/templates",
                    "cat log",
                ],
                "serve.png",
                columns=132,
                rows=44,
                size="9",
            )
        finally:
            server.terminate()
            server.wait()


def batched(folder: str) -> None:
    """A batch of which some are refused, deferred and lost; what the journal says of it."""
    shutil.rmtree(ROOT / folder, ignore_errors=True)
    faults = Faults(
        [Refusal("*@closed.example", *REFUSED), Refusal("*@busy.example", *DEFERRED, times=1)], drops={60: "after-dot"}
    )
    (ROOT / folder).mkdir(parents=True)
    with Receiver(ROOT / folder / "in", manner=Manner(faults)) as receiver:
        rows = "--rows src/pribble/demo/skippers.csv --key berth --to '{{ name }} <{{ email }}>' --connections 4"
        through = f"--through {receiver.address} --wait 0"
        journal = f"{folder}/season.journal"
        calls = [
            f"pribble batch season-notice {rows} --rehearse",
            f"pribble batch season-notice {rows} {through} --journal {journal}",
            f"pribble journal {journal}",
            f"pribble journal {journal} --state in_doubt",
        ]
        terminal(calls, "batch.png", columns=132, rows=40, size="9")


def changed(folder: Path) -> None:
    """A change to the demo's layout, and the messages that it touches."""
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(TEMPLATES, folder / "templates")
    git = ["git", "-C", str(folder), "-c", "user.name=Ana", "-c", "user.email=ana@example.org"]
    subprocess.run([*git, "init", "-q"], check=True)
    layout = folder / "templates/layouts/harbour.html"
    for said in ("first", "longer hours"):
        subprocess.run([*git, "add", "-A"], check=True)
        subprocess.run([*git, "commit", "-q", "-m", said], check=True)
        layout.write_text(layout.read_text(encoding="utf-8").replace("8 to 20", "8 to 21"), encoding="utf-8")
    here = (folder / "templates").relative_to(ROOT)
    terminal(
        [f"pribble differences --git HEAD~1..HEAD --templates {here}"],
        "differences.png",
        columns=100,
        rows=46,
        size="9",
    )


def previewed(folder: Path) -> None:
    """The preview at first sight; with the six mistakes, pointed at; in the dark with an error, and narrow."""
    demo = run_demo(folder / "demo").preview
    window = browser()
    shot(window, demo, "preview.png")
    checked = (folder / "checked").relative_to(Path.cwd())
    templates = TemplateFolder(checked, locale="en_GB", timezone="Europe/London")
    sender = "Skerrow Haven Berth Office <berths@skerrow.example>"
    made = preview(templates, folder / "preview.html", sender=sender, recipients=1200).path
    lit = "const r = document.querySelectorAll('.text .value')[5].getBoundingClientRect();"
    lit += " return [r.left + 60, r.top + 6]"
    shot(window, made, "preview-findings.png", point=lit)
    desk = checked / "desk-copy.html"
    desk.write_text(desk.read_text(encoding="utf-8").replace("vessel.name", "vesel.name"), encoding="utf-8")
    made = preview(TemplateFolder(checked, locale="en_GB"), folder / "preview.html", sender=sender).path
    drawn = [
        shot(window, made, None, hash="#desk-copy", size=(858, 800), scheme="dark"),
        shot(window, made, None, size=(390, 800), scheme="dark"),
    ]
    whole = Image.new("RGB", (sum(each.width for each in drawn) + 32, 800), "#fdfdfb")
    whole.paste(drawn[0], (0, 0))
    whole.paste(drawn[1], (drawn[0].width + 32, 0))
    whole.quantize(256).save(SHOTS / "preview-others.png", optimize=True)
    print(SHOTS / "preview-others.png")


def shot(
    window: Browser,
    page: Path,
    name: str | None,
    script: str = "",
    *,
    hash: str = "",
    size: tuple[int, int] = SIZE,
    scheme: str = "light",
    point: str = "",
) -> Image.Image:
    """A page as it stands in a window of this size."""
    window.become(width=size[0], scheme=scheme)
    window.open("about:blank")
    window.open(f"{page.resolve().as_uri()}{hash}")
    window.until("return document.querySelector('.line, .failure') !== null")
    time.sleep(0.6)
    window.evaluate(script)
    if point:
        window.point(*window.evaluate(point))
    time.sleep(0.6)
    raw = window.call("Page.captureScreenshot", format="png")["data"]
    drawn = Image.open(io.BytesIO(base64.b64decode(raw))).convert("RGB")
    if name is not None:
        drawn.quantize(256).save(SHOTS / name, optimize=True)
        print(SHOTS / name)
    return drawn


MISTAKES = {
    "welcome": "<p>Dear {{ skiper.name }},</p>",
    "total": "<p>{{ total | money }}</p>",
    "offer": "<ul>\n{{ if offers: }}\n<li>{{ offers[0].what }}</li>\n{{ :for }}\n</ul>",
    "link": '<a href="{{ booking.page }}">Show it</a>',
    "branch": '<a href="{{ booking.page }}">\n{{ if offers: }}</a>{{ :if }}',
    "host": '<p>Write to <a href="https://{{ pier }}-berths.skerrow.example/">us</a></p>',
}


def mistakes(folder: Path) -> None:
    """Six mistakes, and what a newcomer reads."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in MISTAKES.items():
        (folder / f"{name}.html").write_text(text, encoding="utf-8")
    (folder / "data.json").write_text('{"skipper": {"name": "Ana"}, "total": 5, "booking": {"page": "bookings/7"}}')
    calls = [
        f"pribble render {name} --format text --templates build/notes --data build/notes/data.json" for name in MISTAKES
    ]
    terminal(calls, "errors.png", columns=112, rows=42, size="9")


if __name__ == "__main__":
    main()
