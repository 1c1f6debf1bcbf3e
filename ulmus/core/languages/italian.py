"""Italian, as texts are compared in it."""

from __future__ import annotations

from .language import Language, words

ITALIAN = Language(
    code="it",
    stemmer="italian",
    small=frozenset(
        words("""
    a abbiamo ad agli ai al alla alle allo altre altri altro anche ancora avere aveva avevano c che chi ci ciò come
    con contro così cui d da dagli dai dal dalla dalle dallo degli dei del dell della delle dello dentro di disse dopo
    dove due durante e è ed era erano essere fa fra già gli ha hai hanno ho i il in io l la le lei li lo loro lui ma
    me mentre mi mia mie miei mio molto ne negli nei nel nell nella nelle nello noi nostra nostre nostri nostro o ogni
    oltre per perché però più poco poi possono prima può qua qual quale quando quanto quasi quella quelle quelli
    quello questa queste questi questo qui s sarà se sei senza si sia siamo siete solo sono sopra sotto stata stati
    stato su sua sue sui sul sulla sulle suo suoi tra tu tua tue tuoi tuo tutta tutte tutti tutto un una uno vi voi
    vostra vostre vostri vostro
""")
    ),
    months=(
        "gennaio",
        "febbraio",
        "marzo",
        "aprile",
        "maggio",
        "giugno",
        "luglio",
        "agosto",
        "settembre",
        "ottobre",
        "novembre",
        "dicembre",
    ),
    refusing=frozenset(["non", "mai", "niente", "nulla", "nessun", "nessuna", "nessuno", "né", "senza", "neanche", "nemmeno"]),
    titles=frozenset(
        words("""
    sig sigg sig.ra sig.na dott dott.ssa prof ing avv arch geom on n nr p pp pag fig art cap vol ecc es tel ca gen feb
    mar apr mag giu lug ago set sett ott nov dic
""")
    ),
)
