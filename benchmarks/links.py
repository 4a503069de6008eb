"""Twenty whole addresses of every customary kind in one page, compiled and by hand."""

from __future__ import annotations

from typing import Any

from markupsafe import escape

from benchmarks.by_hand import address
from pribble import Template
from pribble.passes.pieces import texts_of

KINDS = (
    "https://skerrow.example/|https://skerrow.example/berths/{n}|https://skerrow.example/berths?pier=B&berth={n}|"
    "https://www.skerrow.example/statements/2026-06-B{n}#due|http://skerrow.example:8080/a/b/c?d={n}|"
    "https://skerrow.example/søk?q=brygge {n}|https://skerrow.example/a%20b/{n}?c=%C3%BC|https://x.example/~ana/{n}.pdf|"
    "https://skerrow.example/pay?token=eyJhbGciOi_{n}.eyJzdWIiOi-x&next=%2Fberths|https://x.example/karte(1),{n};a=b|"
    "https://maps.example/@55.1,-3.{n},15z|https://x.example/'quoted'/{n}|https://x.example/漢字/{n}|"
    "https://x.example/{n}?a[]=1&a[]=2|https://x.example/path/to/a/rather/long/address/that/goes/on/and/on/{n}.html|"
    "mailto:berths@skerrow.example|mailto:ana@example.org?subject=Berth%20{n}|tel:+441632960{n}|sms:+441632960{n}|#top"
).split("|")
PAGE = "".join(
    f'<p><a href="{{{{ links[{index}].to }}}}">{{{{ links[{index}].label }}}}</a></p>\n' for index in range(len(KINDS))
)


class Links:
    """The ways to the page, and the data of many recipients."""

    def __init__(self) -> None:
        template = Template.from_text(PAGE)
        bound, _ = template._for(None, None)
        self.recipients = [_data(100 + number) for number in range(60)]
        self._bound = bound
        for data in self.recipients:
            assert self.html(data) == self.html_by_hand(data), "the two pages differ: there is nothing to compare"

    def html(self, data: Any) -> str:
        """The HTML, compiled, and nothing else."""
        return "".join(texts_of(self._bound.pieces(data)[0] or ()))

    @staticmethod
    def html_by_hand(data: Any) -> str:
        links = data["links"]
        return "".join([f'<p><a href="{address(link["to"])}">{escape(link["label"])}</a></p>\n' for link in links])


def _data(number: int) -> Any:
    return {"links": [{"to": kind.format(n=number), "label": f"Look at {number}"} for kind in KINDS]}
