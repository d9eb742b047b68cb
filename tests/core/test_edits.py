"""Edits as JSON Patch: the examples of RFC 6902, appendix A, and what does not fit."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st
from jsonpatch import make_patch

from pelvrak.core.errors import BadInput
from pelvrak.core.route.edits import Change, changed, places_changed

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


if __name__ == "__main__":
    unittest.main()
