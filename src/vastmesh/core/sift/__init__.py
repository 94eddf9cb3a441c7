"""The sift line: one line that picks rows of a table, with units, functions and the pinned run.

    voltage_pu < 0.95 and area = Quillport
    kind = line and loading_pct > 70 %, largest loading_pct first
    voltage_pu = max(voltage_pu)
    voltage_pu - pinned.voltage_pu < -0.01

Grammar::

    line    = [ test ] [ "," ( "largest" | "smallest" ) sum "first" ]
    test    = all { "or" all } ;  all = no { "and" no } ;  no = "not" no | compare
    compare = sum [ ( "=" | "!=" | "<" | "<=" | ">" | ">=" | "~" | "in" ) sum ]
    sum     = product { ( "+" | "-" ) product } ;  product = factor { ( "*" | "/" ) factor }
    factor  = number [ unit ] | text | name | "pinned." name | function "(" list ")" | "(" test { "," test } ")" | "-" factor

It is parsed by this grammar and evaluated column by column; nothing of it is ever run as code.
"""

from ._evaluate import FUNCTIONS, Frame, Sifted, Texts, sift
from ._parse import SiftError, parse

__all__ = ["FUNCTIONS", "Frame", "SiftError", "Sifted", "Texts", "parse", "sift"]
