"""What is kept, and for how long: seen and set by owners only."""

from __future__ import annotations

from tests.api.visitor import WithApi


class Kept(WithApi):
    def test_sizes_and_terms(self) -> None:
        told = self.owner.get("/house/kept", 200)
        self.assertEqual(told["house"], {"nothing": 0, "something": 0})
        self.assertTrue(all(brand["terms"] is None for brand in told["brands"]))
        self.assertGreater(next(one["bytes"] for one in told["sizes"] if one["what"] == "database"), 0)
        self.assertEqual((told["to_remove"], told["to_empty"]), (0, 0))

    def test_terms_of_the_house_and_of_a_brand(self) -> None:
        brand = self.owner.post("/brands", {"name": "Ferry Inn"}, 201)["key"]
        self.owner.put("/house/kept", {"brand": "", "terms": {"nothing": 365, "something": 0}}, 200)
        self.owner.put("/house/kept", {"brand": brand, "terms": {"nothing": 92, "something": 730}}, 200)
        told = self.owner.get("/house/kept", 200)
        self.assertEqual(told["house"]["nothing"], 365)
        self.assertIn({"key": brand, "name": "Ferry Inn", "terms": {"nothing": 92, "something": 730}}, told["brands"])
        self.owner.put("/house/kept", {"brand": brand, "terms": None}, 200)
        self.assertIsNone(next(b["terms"] for b in self.owner.get("/house/kept", 200)["brands"] if b["key"] == brand))
        self.assertIn("set how long runs are kept", str(self.owner.get("/trail", 200)["lines"]))

    def test_what_cannot_be_is_refused_in_words(self) -> None:
        few = self.owner.put("/house/kept", {"brand": "", "terms": {"nothing": 30, "something": 0}}, 422)
        self.assertIn("at least 62 days", str(few))
        self.owner.put("/house/kept", {"brand": "nobody", "terms": None}, 404)

    def test_only_owners_see_it(self) -> None:
        for role in ("reader", "reviewer", "maker"):
            self.visitor(role).get("/house/kept", 403)
            self.visitor(role).put("/house/kept", {"brand": "", "terms": None}, 403)
