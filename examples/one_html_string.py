"""One HTML string with its pictures inside, for a host that takes a body and nothing else; a chart among them."""

import re
from datetime import date
from pathlib import Path

from pribble import TemplateFolder
from pribble.demo.charts import usage_chart

DEMO = Path(__file__).parent.parent / "src/pribble/demo/templates"

template = TemplateFolder(DEMO, locale="en_GB")["mooring-statement"]
data = template.samples[""]
data["usage"]["chart"] = usage_chart(data["usage"]["kwh"], date(2026, 6, 1))  # a Matplotlib figure, or a file's name
rendering = template.render(data)
html = rendering.fragment(embed="data") or ""

sources = re.findall(r'<img[^>]* src="([^"]{,30})', html)
print(f"{len(html):,} characters, pictures: {', '.join(source + '…' for source in sources)}")
print(*(finding.message for finding in rendering.findings), sep="\n")
