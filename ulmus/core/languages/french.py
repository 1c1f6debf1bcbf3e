"""French, as texts are compared in it."""

from __future__ import annotations

from .language import Language, words

FRENCH = Language(
    code="fr",
    stemmer="french",
    small=frozenset(
        words("""
    a ai ainsi alors apres après au aucun aussi autre autres aux avait avant avec avez avoir avons bien c car ce ceci
    cela celle celles celui ces cet cette ceux chaque chez ci comme comment d dans de depuis des deux dit donc dont du
    durant elle elles en encore entre es est et étaient était été être eu eux fait faire fois font hors ici il ils j
    je jusque l la là le les leur leurs lors lorsque lui m ma mais me même mêmes mes moi moins mon n ne ni nos notre
    nous on ont ou où par parce pas pendant peu peut peuvent plus pour pourquoi qu quand que quel quelle quelles quels
    qui s sa sans se sera ses si son sont sous sur t ta te tes toi ton tous tout toute toutes très tu un une vers
    voici vos votre vous y déjà
""")
    ),
    months=(
        "janvier",
        "février",
        "mars",
        "avril",
        "mai",
        "juin",
        "juillet",
        "août",
        "septembre",
        "octobre",
        "novembre",
        "décembre",
    ),
    refusing=frozenset(["ne", "n", "pas", "jamais", "rien", "aucun", "aucune", "personne", "sans", "ni", "guère", "non"]),
    titles=frozenset(
        words("""
    m mm mme mlle dr me mgr pr st ste no n° p pp fig env av bd ex réf tél cf vol art chap janv févr avr juil sept oct
    nov déc
""")
    ),
)
