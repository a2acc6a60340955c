"""Tests of unittest, which pytest runs too."""

import asyncio
import unittest

from flow import share, total


class Weir(unittest.TestCase):
    def setUp(self):
        self.heads = [1.0, 4.0]

    def test_passes(self):
        self.assertEqual(total(self.heads), 6.0)

    def test_fails(self):
        self.assertEqual(total(self.heads), 6.5)

    def test_plain_assertion(self):
        assert total(self.heads) == 6.5

    def test_close(self):
        self.assertAlmostEqual(share(2.0), 2.8, places=3)

    def test_error(self):
        share(-1.0)

    def test_raises(self):
        with self.assertRaises(ValueError):
            share(-1.0)

    def test_raises_by_call(self):
        self.assertRaises(ValueError, share, -1.0)

    def test_raises_words(self):
        with self.assertRaisesRegex(ValueError, "negative"):
            share(-1.0)

    def test_raises_nothing(self):
        with self.assertRaises(ValueError):
            share(1.0)

    def test_skips(self):
        self.skipTest("no gauge")

    @unittest.expectedFailure
    def test_expected(self):
        self.assertEqual(share(1.0), 3.0)

    def test_parts(self):
        for head in (1.0, 4.0):
            with self.subTest(head=head):
                self.assertEqual(share(head), 2.0)


class Dry(unittest.TestCase):
    def setUp(self):
        self.flow = share(-1.0)

    def test_flow(self):
        self.assertEqual(self.flow, 0.0)


class Waiting(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        # Its loop is in debug mode and logs each callback over 0.1 s: under load that would be another report.
        asyncio.get_running_loop().slow_callback_duration = 600.0

    async def test_flow(self):
        self.assertEqual(share(1.0), 3.0)
