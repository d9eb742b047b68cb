"""Edits as JSON Patch: the examples of RFC 6902, appendix A, and what does not fit."""

from __future__ import annotations

import copy
import unittest

from hypothesis import given
from hypothesis import strategies as st
from jsonpatch import make_patch

from pelvrak.core.cures import Add, Arrange, Edit, Element, Put, differing
from pelvrak.core.errors import BadInput
from pelvrak.core.route.edits import Change, changed, edited, places_changed
from pelvrak.core.route.plan import plan_from

NAMES = st.sampled_from(["a", "b/c", "d~e", "0"])
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.text("xy", max_size=2),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(NAMES, inner, max_size=3),
    max_leaves=12,
)
DOCUMENTS = st.dictionaries(NAMES, VALUES, max_size=4)


class Patches(unittest.TestCase):
    def test_examples_of_the_standard(self):
        """RFC 6902, A.1, A.2, A.3, A.4, A.5, A.8, A.10, A.14, A.16; its documents and results word for
        word.
        """
        for before, change, after in (
            ({"foo": "bar"}, ("add", "/baz", "qux"), {"baz": "qux", "foo": "bar"}),
            ({"foo": ["bar", "baz"]}, ("add", "/foo/1", "qux"), {"foo": ["bar", "qux", "baz"]}),
            ({"baz": "qux", "foo": "bar"}, ("remove", "/baz"), {"foo": "bar"}),
            ({"foo": ["bar", "qux", "baz"]}, ("remove", "/foo/1"), {"foo": ["bar", "baz"]}),
            ({"baz": "qux", "foo": "bar"}, ("replace", "/baz", "boo"), {"baz": "boo", "foo": "bar"}),
            (
                {"baz": "qux", "foo": ["a", 2, "c"]},
                ("test", "/foo/1", 2),
                {"baz": "qux", "foo": ["a", 2, "c"]},
            ),
            (
                {"foo": "bar"},
                ("add", "/child", {"grandchild": {}}),
                {"foo": "bar", "child": {"grandchild": {}}},
            ),
            ({"/": 9, "~1": 10}, ("test", "/~01", 10), {"/": 9, "~1": 10}),
            ({"foo": ["bar"]}, ("add", "/foo/-", ["abc", "def"]), {"foo": ["bar", ["abc", "def"]]}),
        ):
            change = Change(**dict(zip(("op", "path", "value"), change, strict=False)))
            self.assertEqual(changed(before, (change,)), after)

    def test_what_does_not_fit_is_told_and_changes_nothing(self):
        """RFC 6902, A.9, A.12 and A.15 among them."""
        for before, change, said in (
            ({"baz": "qux"}, ("test", "/baz", "bar"), "not equal"),
            ({"foo": "bar"}, ("add", "/baz/bat", "qux"), "baz"),
            ({"/": 9, "~1": 10}, ("test", "/~01", "10"), "not equal"),
            ({"foo": [1]}, ("remove", "/foo/4"), "'4'"),
            ({"foo": 1}, ("replace", "foo", 2), "start with /"),
            ({"foo": 1}, ("replace", "", 7), "no plan any more"),
        ):
            first = Change(op="add", path="/other", value=1)
            second = Change(**dict(zip(("op", "path", "value"), change, strict=False)))
            kept = dict(before)
            with self.assertRaises(BadInput) as caught:
                changed(before, (first, second))
            self.assertEqual((caught.exception.code, before), ("plan.patch", kept))
            self.assertIn(said, caught.exception.what)

    @given(DOCUMENTS, DOCUMENTS)
    def test_from_any_document_to_any_other(self, before, after):
        """What the general-purpose library says lies between two documents brings one to the other."""
        made = list(make_patch(before, after))
        if not {"move", "copy"} & {one["op"] for one in made}:
            self.assertEqual(changed(before, tuple(Change(**one) for one in made)), after)

    def test_places(self):
        before = {"a": 1, "b": {"c": [1, 2, {"d": 3}]}, "e": "x"}
        after = {"a": 1, "b": {"c": [1, 5, {"d": 4}]}, "f": 0}
        self.assertEqual(places_changed(before, after), ["/b/c/1", "/b/c/2/d", "/e", "/f"])
        self.assertEqual(places_changed(before, before), [])
        self.assertEqual(places_changed([1], [1, 2]), ["/1"])


class TypedEdits(unittest.TestCase):
    """Cures name what they change: whatever moved meanwhile, they meet the same element or nothing."""

    def setUp(self):
        def setup(name, *ids):
            operations = [{"id": id, "name": id, "kind": "facing", "tool": "em10"} for id in ids]
            return {
                "name": name,
                "operations": operations,
                "hold": {"items": [{"id": "vise", "fixture": "bench-160"}]},
                "positions": [{"name": "A", "angles": {}}, {"name": "B", "angles": {}}],
                "seat": {"zeros": [{"name": "bore", "offset_register": "G55", "zero": {}}]},
            }

        plan = plan_from(
            {"name": "p", "part": {"file": "p.step"}, "setups": [setup("OP10", "a", "b"), setup("OP20", "c")]}
        )
        self.document = plan.model_dump(mode="json")

    def told(self, *edits: Edit):
        return edited(self.document, edits)["setups"]

    def test_each_kind_of_element(self):
        for of, field, where in (
            (Element(setup="OP20"), "title", ()),
            (Element(setup="OP10", operation="b"), "name", ("operations", 1)),
            (Element(setup="OP20", item="vise"), "fixture", ("hold", "items", 0)),
            (Element(setup="OP10", position="B"), "name", ("positions", 1)),
            (Element(setup="OP10", zero="bore"), "offset_register", ("seat", "zeros", 0)),
        ):
            setups = self.told(Put(of=of, field=field, value="new"))
            at = next(one for one in setups if one["name"] == of.setup)
            for step in where:
                at = at[step]
            self.assertEqual(at[field], "new", of)

    def test_others_that_came_and_went_change_nothing(self):
        """The operation is met where it now stands, not where it stood when the cure was told."""
        self.document["setups"][0]["operations"].reverse()
        self.document["setups"].reverse()
        done = self.told(Put(of=Element(setup="OP10", operation="a"), field="tool", value="em6"))
        self.assertEqual(
            [(one["id"], one["tool"]) for one in done[1]["operations"]], [("b", "em10"), ("a", "em6")]
        )

    def test_added_before_and_arranged(self):
        made = {**self.document["setups"][0], "name": "OP15"}
        done = self.told(Add(of=Element(), to="setups", value=made, before="OP20"))
        self.assertEqual([one["name"] for one in done], ["OP10", "OP15", "OP20"])
        order = Arrange(of=Element(setup="OP10"), what="positions", order=("B", "A"))
        self.assertEqual([one["name"] for one in self.told(order)[0]["positions"]], ["B", "A"])

    def test_what_has_gone_is_refused_and_changes_nothing(self):
        before = copy.deepcopy(self.document)
        good = Put(of=Element(setup="OP10"), field="title", value="new")
        for gone in (
            Put(of=Element(setup="OP99"), field="title", value=""),
            Put(of=Element(setup="OP10", operation="c"), field="tool", value="em6"),
            Put(of=Element(setup="OP10", item="strap"), field="x", value=1.0),
            Put(of=Element(tool="em10"), field="place", value=2),
            Add(of=Element(), to="setups", value={}, before="OP99"),
            Arrange(of=Element(setup="OP10"), what="positions", order=("A",)),
        ):
            with self.assertRaises(BadInput) as caught:
                edited(self.document, (good, gone))
            self.assertEqual((caught.exception.code, self.document), ("plan.gone", before))

    def test_fields_that_differ(self):
        """Two operations, one edit a field: made, the first is the second."""
        now, then = plan_from(self.document).setups[0].operations
        edits = differing(Element(setup="OP10", operation="a"), now, then)
        self.assertEqual({edit.field for edit in edits}, {"id", "name"})


if __name__ == "__main__":
    unittest.main()
