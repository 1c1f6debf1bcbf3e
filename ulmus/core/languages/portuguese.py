"""Portuguese, as texts are compared in it."""

from __future__ import annotations

from .language import Language, words

PORTUGUESE = Language(
    code="pt",
    stemmer="portuguese",
    small=frozenset(
        words("""
    a à ainda além algo alguns algumas ao aos apenas após aquela aquele aqui as às assim até cada com como contra da
    das de dela dele deles depois desde dessa desse desta deste disse do dois dos durante e é ela elas ele eles em
    entre era eram essa essas esse esses esta está estamos estão estas este estes eu foi foram há isso isto já lá lhe
    mais mas me mesmo meu meus minha muito muitos na nas nem nessa nesse nesta neste no nos nós nossa nossas nosso
    nossos num numa o onde os ou outra outras outro outros para pela pelas pelo pelos pode podem por porque pouco
    quais qual quando quanto que quem se sem sempre sendo ser será seu seus só sob sobre somos sua suas são também tem
    têm ter toda todas todo todos tu tua um uma umas uns você vocês vos
""")
    ),
    months=(
        "janeiro",
        "fevereiro",
        "março",
        "abril",
        "maio",
        "junho",
        "julho",
        "agosto",
        "setembro",
        "outubro",
        "novembro",
        "dezembro",
    ),
    refusing=frozenset(["não", "nunca", "jamais", "nada", "ninguém", "nenhum", "nenhuma", "nem", "sem", "tampouco"]),
    titles=frozenset(
        words("""
    sr sra srta dr dra prof profa eng av r n nº pág págs art fig vol ex aprox tel d jan fev mar abr jun jul ago set
    out nov dez
""")
    ),
)
