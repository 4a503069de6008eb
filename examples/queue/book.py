"""The application: it posts an event for each booking, and goes on at once; workers send.

python book.py 20
"""

import sys

from office import SETTINGS, queue, send_tides

from pribble.delivery import Mailroom


def main(count: int) -> None:
    with Mailroom(SETTINGS, hand_over=queue.hand_over) as mailroom:
        for number in range(1, count + 1):
            booking = {
                "reference": f"SH-{number}",
                "name": f"Skipper {number}",
                "mail": f"skipper-{number}@example.org",
                "berth": f"B {number}",
            }
            posted = mailroom.post("berth-booked", booking)
            print(posted.key, "posted" if posted.is_new else "posted before")
    send_tides()  # what beat does each Monday at seven


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
