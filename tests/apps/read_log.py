"""Reads an access log with a parser of the combined format and prints its lines as JSON."""

import json
import sys

from apachelogs import COMBINED, parse_lines

with open(sys.argv[1], encoding="utf-8") as log:
    print(
        json.dumps(
            [
                {
                    "request": line.request_line,
                    "status": line.final_status,
                    "octets": line.bytes_sent,
                    "referer": line.headers_in["Referer"],
                    "agent": line.headers_in["User-Agent"],
                }
                for line in parse_lines(COMBINED, log)
            ]
        )
    )
