"""Tools as CSV and JSON: taken out and brought in the same, inches, and what is refused where."""

from __future__ import annotations

import csv
import io
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from pelvrak.core.cutting.tool_files import COLUMNS, tools_from, tools_to_csv, tools_to_json
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput

HEAD = "id,name,kind,DC,LCF,OAL,DCON,NOF,overhang"
ONE = "a,Ø10 end mill,end_mill,10,25,80,10,3,40"


class ToolFiles(unittest.TestCase):
    def test_out_and_in_again(self):
        worn = tool_shelf()["em12"].model_copy(update={"id": "w", "life_min": 45.0, "twin_places": (21, 22)})
        shelf = [*tool_shelf().values(), worn]
        self.assertEqual(tools_from(tools_to_json(shelf).encode(), "t.json"), shelf)
        tabled = [tool for tool in shelf if tool.outline is None]
        self.assertGreater(len(tabled), 50)
        self.assertEqual(tools_from(tools_to_csv(shelf).encode(), "t.csv"), tabled)

    def test_the_table_is_read_by_the_standard_library(self):
        rows = list(csv.DictReader(io.StringIO(tools_to_csv(tool_shelf().values()))))
        drill = next(row for row in rows if row["id"] == "dr5")
        self.assertEqual((drill["DC"], drill["SIG"], drill["holder_stack"]), ("5.0", "118.0", "40x36 40x50"))
        self.assertEqual(set(rows[0]), set(COLUMNS))

    def test_inches(self):
        # A half-inch end mill is 12.7 mm: 1 in = 25.4 mm (ISO 80000-3).
        text = f"{HEAD},unit,holder_stack\nh,1/2 end mill,end_mill,0.5,1,3.25,0.5,4,1.75,in,1.5x1.25"
        (tool,) = tools_from(text.encode(), "inch.csv")
        self.assertEqual((tool.DC, tool.LCF, tool.OAL), (12.7, 25.4, 82.55))
        self.assertEqual(tool.holder.stack, ((38.1, 31.75),))

    def test_semicolons_and_decimal_commas(self):
        text = HEAD.replace(",", ";") + "\r\n" + "d;Drill 6,8;end_mill;6,8;25;80;8;2;40"
        (tool,) = tools_from(("\ufeff" + text).encode(), "t.csv")
        self.assertEqual((tool.name, tool.DC), ("Drill 6,8", 6.8))

    def test_refused_with_row_and_column(self):
        for text, where, word in (
            (f"{HEAD}\n{ONE}\n{ONE}", "line 3", "another id"),
            (f"{HEAD}\n{ONE.replace(',25,', ',wide,')}", "line 2, column LCF", "digits"),
            (f"{HEAD}\n{ONE.replace(',3,', ',2.5,')}", "line 2, column NOF", "whole"),
            (f"{HEAD}\n{ONE.replace('end_mill', 'ball_mil')}", "line 2, kind", "value"),
            (f"{HEAD}\n{ONE.replace(',25,', ',60,')}", "line 2", "value"),
            (f"{HEAD}\n{ONE},9", "line 2", "quotes"),
            (f"{HEAD},DC\n{ONE},9", "line 1", "ISO 13399"),
            (f"{HEAD},flutes\n{ONE},3", "line 1", "ISO 13399"),
            (HEAD.replace(",DC,", ",") + "\n", "line 1", "add"),
            (f"{HEAD},unit\n{ONE},cm", "column unit", "mm or in"),
            (f"{HEAD},holder_stack\n{ONE},30-40", "column holder_stack", "30x40"),
            (f"{HEAD},cuts_at_centre\n{ONE},maybe", "column cuts_at_centre", "yes or no"),
            ('[{"id": "a"', "t", "mend"),
            ('{"id": "a"}', "t", "list"),
        ):
            with self.assertRaises(BadInput) as refused:
                tools_from(text.encode(), "t")
            self.assertIn(where, refused.exception.where, text)
            self.assertIn(word, refused.exception.mend, text)
        for data in (b"\xff\xfe", b"x" * 3_000_000):
            with self.assertRaises(BadInput):
                tools_from(data, "t")

    @given(st.text(max_size=300))
    @settings(max_examples=150, deadline=None)
    def test_any_text_is_read_or_refused(self, text):
        for data in (text, f"{HEAD}\n{text}", f"[{text}]"):
            try:
                tools_from(data.encode("utf-8", "replace"), "t")
            except BadInput as bad:
                self.assertTrue(bad.mend)


if __name__ == "__main__":
    unittest.main()
