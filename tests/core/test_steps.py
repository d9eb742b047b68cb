"""Steps, their keys, and the engine that runs them: nothing of an input is forgotten, and an equal output
stops the wave.
"""

from __future__ import annotations

import dataclasses
import enum
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from unittest import mock

import numpy as np
from cachetools import LRUCache
from hypothesis import given as over
from hypothesis import strategies as st
from pydantic import BaseModel

from pelvrak.core.engine.digest import digest_of
from pelvrak.core.engine.engine import Engine, Result, weight
from pelvrak.core.engine.step import Content, Kind, Piece, Pieces, Reads, Step
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import Stopped
from pelvrak.core.route.graph import STEPS

TEXT: Piece[str] = Piece("text", str.encode, bytes.decode)


class Colour(enum.Enum):
    RED = 1
    BLUE = 2


@dataclass(frozen=True)
class Box:
    length: float
    label: str = ""


@dataclass(frozen=True)
class Crate:
    length: float
    label: str = ""


class Named(BaseModel):
    name: str
    size: float = 1.0


PLAIN = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text()
    | st.binary(),
    lambda inner: st.lists(inner).map(tuple) | st.dictionaries(st.text(), inner),
    max_leaves=12,
)


class DigestTest(unittest.TestCase):
    def test_values_that_differ_have_other_names(self):
        values = [
            None,
            True,
            False,
            0,
            1,
            1.0,
            0.0,
            "1",
            b"1",
            "",
            (),
            ((),),
            {},
            {"a": 1},
            {"a": 2},
            {"b": 1},
            (1, 2),
            ((1,), 2),
            (1, (2,)),
            Colour.RED,
            Colour.BLUE,
            Box(1.0),
            Box(1.0, "x"),
            Crate(1.0),
            Named(name="a"),
            Named(name="a", size=2.0),
            Content("1"),
            np.array([1.0, 2.0]),
            np.array([[1.0, 2.0]]),
            np.array([1.0, 2.0], np.float32),
            np.array([1, 2]),
            np.array([1.0, 2.5]),
        ]
        self.assertEqual(len({digest_of(value) for value in values}), len(values))

    def test_equal_values_have_one_name(self):
        for one, other in (
            (0.0, -0.0),
            ({"a": 1, "b": 2}, {"b": 2, "a": 1}),
            ([1, 2], (1, 2)),
            (Box(2.0), Box(2.0)),
            (np.float64(1.5), 1.5),
            (np.int32(3), 3),
            (np.arange(6).reshape(2, 3).T, np.ascontiguousarray(np.arange(6).reshape(2, 3).T)),
        ):
            self.assertEqual(digest_of(one), digest_of(other))
        # A whole number and a float are two types: what differs in type is taken to differ.
        self.assertNotEqual(digest_of(Box(2.0)), digest_of(Box(2)))

    def test_the_end_of_one_text_is_not_the_beginning_of_the_next(self):
        self.assertNotEqual(digest_of(("ab", "c")), digest_of(("a", "bc")))
        self.assertNotEqual(digest_of((b"ab", b"c")), digest_of((b"a", b"bc")))

    def test_what_cannot_be_told_by_its_content_is_refused(self):
        for value in (print, object(), {1, 2}, Box):
            with self.assertRaises(TypeError):
                digest_of(value)
        for value in (float("nan"), float("inf"), (1, -float("inf"))):
            with self.assertRaises(ValueError):
                digest_of(value)

    @over(PLAIN, PLAIN)
    def test_names_tell_values_apart(self, one, other):
        def typed(value):
            if isinstance(value, tuple):
                return ("tuple", *(typed(item) for item in value))
            if isinstance(value, dict):
                return ("dict", *((key, typed(item)) for key, item in sorted(value.items())))
            return type(value).__name__, value

        self.assertEqual(digest_of(one) == digest_of(other), typed(one) == typed(other))


class KeyTest(unittest.TestCase):
    def test_every_field_of_every_input_is_in_its_key(self):
        self.assertGreaterEqual(len(STEPS), 15)
        for step in STEPS.values():
            fields = dataclasses.fields(step.given)
            self.assertTrue(step.given.__dataclass_params__.frozen, step.name)
            plain = step.given(**{field.name: "as it is" for field in fields})
            for field in fields:
                changed = dataclasses.replace(plain, **{field.name: "another"})
                self.assertNotEqual(step.key(plain), step.key(changed), f"{step.name}: {field.name}")

    def test_a_step_is_given_nothing_beside_its_input(self):
        # What is kept of what is at hand (a part file's bytes, a program) has no function.
        computing = [one for one in STEPS.values() if isinstance(one, Step)]
        self.assertEqual({*STEPS} - {one.name for one in computing}, {"part", "program", "jaws"})
        for step in computing:
            self.assertIsNone(step.compute.__closure__, step.name)
            self.assertEqual(step.compute.__code__.co_argcount, 2, step.name)

    def test_version_and_name_are_in_the_key(self):
        def compute(given: Box, reads: Reads) -> Pieces:
            return {}

        keys = {
            Step(name, version, Box, compute).key(Box(1.0)) for name in ("one", "two") for version in (1, 2)
        }
        self.assertEqual(len(keys), 4)

    def test_every_step_has_a_name_of_its_own(self):
        from pelvrak.core.route import graph

        counted = sum(
            isinstance(one, Kind) and (not isinstance(one, Step) or one.compute.__module__ == module.__name__)
            for module in graph._MODULES
            for one in vars(module).values()
        )
        self.assertEqual(counted, len(STEPS))


# Toy kinds of step, from outside the tree: a word is bent to lower case, then counted.


@dataclass(frozen=True)
class WordGiven:
    word: str


@dataclass(frozen=True)
class CountGiven:
    text: Content
    times: int = 1


RAN: list[str] = []


def _lower(given: WordGiven, reads: Reads) -> Pieces:
    RAN.append("lower")
    return {TEXT: given.word.lower()}


def _count(given: CountGiven, reads: Reads) -> Pieces:
    RAN.append("count")
    reads.tell(0.5)
    return {TEXT: str(given.times * len(reads.read(given.text, TEXT)))}


LOWER, COUNT = Step("lower", 1, WordGiven, _lower), Step("count", 1, CountGiven, _count)


class EngineTest(unittest.TestCase):
    def setUp(self):
        RAN.clear()
        self.store = MemoryStore()

    def counted(self, word: str, engine: Engine | None = None) -> Result:
        engine = engine or Engine(self.store)
        lowered = engine.run(LOWER, WordGiven(word), f"{word} lowered")
        return engine.run(COUNT, CountGiven(lowered.content(TEXT)), f"{word} counted")

    def test_computed_once(self):
        first, again = self.counted("Milling"), self.counted("Milling")
        self.assertEqual((first.value(TEXT), again.value(TEXT)), ("7", "7"))
        self.assertEqual(RAN, ["lower", "count"])

    def test_what_another_computes_is_waited_for(self):
        begun, go_on, told = threading.Event(), threading.Event(), []

        def slow(given: WordGiven, reads: Reads) -> Pieces:
            RAN.append("slow")
            begun.set()
            self.assertTrue(go_on.wait(10))
            return {TEXT: given.word}

        step = Step("slow", 1, WordGiven, slow)
        with ThreadPoolExecutor(2) as pool:
            first = pool.submit(Engine(self.store).run, step, WordGiven("Milling"), "first")
            self.assertTrue(begun.wait(10))

            def heard(called: str, share: float) -> None:
                told.append(called)
                if len(told) == 4:  # told once before it waits, then again and again
                    go_on.set()

            second = Engine(self.store, tell=heard)
            self.assertEqual(second.run(step, WordGiven("Milling"), "second").value(TEXT), "Milling")
            self.assertEqual(first.result().value(TEXT), "Milling")
        self.assertEqual((RAN, second.computed), (["slow"], ["second"]))

    def test_who_waits_can_be_stopped_and_who_failed_is_followed(self):
        told: list[str] = []

        def heard(called: str, share: float) -> None:
            told.append(called)
            if len(told) > 1:  # once before it waits
                raise Stopped

        with self.store.alone(LOWER.key(WordGiven("Milling")), lambda: None):
            with self.assertRaises(Stopped):
                Engine(self.store, tell=heard).run(LOWER, WordGiven("Milling"), "stopped")
            self.assertEqual((RAN, told), ([], ["stopped", "stopped"]))
        # One that never ends keeps nobody for ever.
        key = LOWER.key(WordGiven("Milling"))
        with (
            mock.patch("pelvrak.core.engine.store.MOST_WAIT_S", 0.05),
            self.store.alone(key, lambda: None),
            self.store.alone(key, lambda: told.append("waits")),
        ):
            self.assertIn("waits", told)
        with self.assertRaises(ZeroDivisionError), self.store.alone(key, lambda: None):
            1 / 0  # noqa: B018  whoever had the key broke down
        self.assertEqual(self.counted("Milling").value(TEXT), "7")

    def test_an_equal_output_stops_the_wave(self):
        self.counted("Milling")
        engine = Engine(self.store)
        self.assertEqual(self.counted("MILLING", engine).value(TEXT), "7")
        self.assertEqual((engine.computed, engine.reused), (["MILLING lowered"], ["MILLING counted"]))
        self.assertEqual(RAN, ["lower", "count", "lower"])

    def test_one_content_is_kept_once(self):
        self.counted("Milling")
        held = len(self.store.contents)
        self.counted("mILLING")
        self.assertEqual(len(self.store.contents), held)

    def test_what_is_at_hand_is_what_is_kept(self):
        warm, cold = Engine(self.store), Engine(self.store)
        made = self.counted("Turning", warm)
        self.assertEqual(made.value(TEXT), Result(made.key, cold).value(TEXT))

    def test_the_engine_knows_every_key_it_used(self):
        engine = Engine(self.store)
        made = self.counted("Milling", engine)
        self.assertEqual(sorted(engine.keys.values()), ["count", "lower"])
        self.assertIn(made.key, engine.keys)

    def test_progress_is_heard_and_may_stop_it(self):
        class Enough(Exception):
            pass

        heard = []

        def tell(called: str, share: float) -> None:
            heard.append((called, share))
            if share == 0.5:
                raise Enough

        with self.assertRaises(Enough):
            self.counted("Milling", Engine(self.store, tell))
        self.assertEqual(
            heard, [("Milling lowered", 0.0), ("Milling counted", 0.0), ("Milling counted", 0.5)]
        )
        self.assertEqual(self.counted("Milling").value(TEXT), "7")

    def test_what_is_kept_nowhere_is_told(self):
        engine = Engine(self.store)
        with self.assertRaises(LookupError):
            engine.run(COUNT, CountGiven(Content("0" * 32)), "lost")
        with self.assertRaises(LookupError):
            Result("0" * 32, engine).content(TEXT)

    def test_values_at_hand_are_bounded_by_what_they_take_in_memory(self):
        """Zeros are kept in a few bytes and take all the same what they take."""
        zeros: Piece[np.ndarray] = Piece(
            "zeros", lambda a: str(len(a)).encode(), lambda data: np.zeros(int(data))
        )

        def make(given: WordGiven, reads: Reads) -> Pieces:
            return {zeros: np.zeros(10_000 + len(given.word))}

        engine = Engine(self.store, at_hand=LRUCache(200_000, getsizeof=lambda kept: kept[1]))
        for word in ("a", "bb", "ccc", "dddd", "eeeee"):
            engine.run(Step("zeros", 1, WordGiven, make), WordGiven(word), word)
        self.assertEqual(len(engine.at_hand), 2)
        self.assertLessEqual(engine.at_hand.currsize, 200_000)
        self.assertEqual(weight((np.zeros(10), "abc", Box(1.0, "xy"))), 3 * 8 + 80 + 3 + (8 + 2))

    def test_what_fails_is_not_taken_for_done(self):
        def broken(given: WordGiven, reads: Reads) -> Pieces:
            raise ValueError("no")

        engine, step = Engine(self.store), Step("broken", 1, WordGiven, broken)
        for _ in range(2):
            with self.assertRaises(ValueError):
                engine.run(step, WordGiven("x"), "x")
        self.assertEqual(engine.keys, {})


if __name__ == "__main__":
    unittest.main()
