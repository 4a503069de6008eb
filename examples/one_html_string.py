"""One HTML string with its pictures inside, for a host that takes a body and nothing else."""

import re
from pathlib import Path

from pribble import TemplateFolder

DEMO = Path(__file__).parent.parent / "src/pribble/demo/templates"

template = TemplateFolder(DEMO, locale="en_GB")["berth-confirmed"]
html = template.render(template.samples[""], embed="data").html

sources = re.findall(r'<img[^>]* src="([^"]{,30})', html)
print(f"{len(html):,} characters, pictures: {', '.join(source + '…' for source in sources)}")
