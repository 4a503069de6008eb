"""A report from a notebook: figures that pandas works out, and a chart of Matplotlib's, in one message.

The cells, between the lines that begin with ``# %%``, run one after another, in a notebook or as a script.
"""

# %% The data: nights of the berths, by pier and month.
import io
import tempfile
from pathlib import Path

import pandas
from matplotlib.figure import Figure

from pribble import Picture, Template, audit
from pribble.delivery import transport

nights = pandas.DataFrame(
    {
        "pier": ["A", "A", "B", "B", "C", "C"],
        "month": ["May", "June"] * 3,
        "nights": [310, 402, 288, 417, 120, 96],
        "income": [6200.0, 8040.0, 5760.0, 8340.0, 1800.0, 1440.0],
    }
)

# %% What the harbour board asks for.
by_pier = nights.groupby("pier", as_index=False)[["nights", "income"]].sum()
by_month = nights.pivot(index="month", columns="pier", values="nights").loc[["May", "June"]]

# %% A chart, at twice the pixels that it is shown with.
figure = Figure((4, 2), layout="constrained")
by_month.plot.bar(ax=figure.subplots(), rot=0, xlabel="", ylabel="nights")
drawn = io.BytesIO()
figure.savefig(drawn, dpi=192)
chart = Picture.from_bytes(drawn.getvalue(), name="nights.png")

# %% The message.
REPORT = Template.from_text(
    """{{ subject: }}{{ total as number }} nights in May and June{{ :subject }}
<p>Dear board,</p>
<p>the piers had {{ total as number }} nights, and took {{ income as money("GBP") }}.</p>
<table border="1" cellpadding="4">
  <tr><th>pier</th><th>nights</th><th>income</th></tr>
  {{ for row in piers: }}
  <tr>
    <td>{{ row.pier }}</td>
    <td align="right">{{ row.nights as number }}</td>
    <td align="right">{{ row.income as money("GBP") }}</td>
  </tr>
  {{ :for }}
</table>
<p><img src="{{ chart }}" width="384" alt="Nights by month and pier"></p>
""",
    locale="en_GB",
)
data = {"total": by_pier["nights"].sum(), "income": by_pier["income"].sum(), "piers": by_pier, "chart": chart}
message = REPORT.render(data).message(sender="Office <office@skerrow.example>", to="board@skerrow.example")
print(message.subject)
print(message.text)

# %% Look at it, in a file; then say transport("smtps://you@mail.example.org", password), and send it.
with tempfile.TemporaryDirectory() as folder, transport(f"folder:{folder}") as way:
    receipt = way.deliver(message)
    (kept,) = Path(folder).glob("*.eml")
    print(f"{receipt.outcomes[0].state}; {len(audit(kept.read_bytes()).findings)} findings")
