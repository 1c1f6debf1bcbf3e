"""The words by which a model hands its piece over, in seven languages; `wrapping` puts them together.

They are words of the task (what was asked, the piece, its length, another version), not of any field a piece is about.
"""

from __future__ import annotations

import re


def _any(*parts: str) -> str:
    """One pattern for words that stand one after another, parted by blanks; ``_`` stands for a blank in a phrase."""
    return "|".join(word.replace("_", r"\s+").replace("'", "['’]") for part in parts for word in part.split())


def _words(*parts: str) -> re.Pattern[str]:
    return re.compile(rf"(?<!\w)(?:{_any(*parts)})(?!\w)", re.I)


_PIECE = _any(
    "posts? drafts? versions? captions? newsletters? articles? e-?mails? teasers? summary rewrite rewording copy subject_lines? intro",
    "blog_posts? letter message script text response answer output options? variants? alternatives? translation digest paragraph html markdown",
    "beitrag beiträge entwurf entwürfe fassung(?:en)? variante(?:n)? zusammenfassung antwort betreffzeile(?:n)? artikel nachricht",
    "publications? brouillons? textes? réponse résumé variantes? légende message",
    "publicación publicaciones borrador(?:es)? versión versiones textos? respuesta resumen opción opciones correo artículo mensaje",
    "bozz[ae] test[oi] risposta riassunto version[ei] opzion[ei] articolo messaggio didascalia",
    "publicação publicações rascunhos? versão versões textos? resposta resumo opção opções artigo mensagem legenda",
    "bericht(?:en)? concept(?:en)? versies? teksten? tekst antwoord samenvatting opties? artikel bijschrift nieuwsbrief",
)
PIECES = re.compile(rf"(?<!\w)(?:{_PIECE})(?!\w)", re.I)
"""What the piece is called by whoever wrote it to order."""

HANDS_OVER = re.compile(
    r"(?<!\w)(?:"
    + _any(
        "here's here_is here_are here_you_go here_it_is here_goes below_is below_are please_find find_below the_following as_requested",
        "as_asked as_you_asked as_instructed as_per_your per_your_request based_on_your based_on_the_(?:material|article|source|notes)",
        "i(?:'ve|_have)?_(?:just_)?(?:written|wrote|drafted|created|prepared|crafted|rewritten|revised|shortened|made|put_together)",
        "i(?:'ve|_have)_(?:kept|added|removed|tried|followed|used|avoided) follows_(?:all|your|the) meets_(?:all|your|the)",
        "hier_(?:ist|sind|kommt|kommen|hast_du|haben_sie) anbei nachfolgend im_folgenden wie_(?:gewünscht|verlangt|gefordert|besprochen)",
        "ich_habe(?:_\\w+){0,6}_(?:geschrieben|verfasst|erstellt|überarbeitet|gekürzt|formuliert|angepasst|entworfen)",
        "voici voilà ci-dessous comme_(?:demandé|convenu|souhaité) conformément_à j'ai_(?:rédigé|écrit|préparé|créé|raccourci|révisé)",
        "aquí_(?:tienes?|está|están|va|van|te_dejo|os_dejo|le_dejo) a_continuación como_(?:pediste|solicitaste|pidió|has_pedido)",
        "te_dejo he_(?:escrito|redactado|preparado|creado|revisado) según_lo_(?:pedido|solicitado) este_es esta_es",
        "ecco(?:_a_te|ti)? di_seguito qui_sotto come_(?:richiesto|da_richiesta) ho_(?:scritto|preparato|redatto|creato|rivisto)",
        "aqui_(?:está|estão|vai|vão) segue(?:m)? abaixo conforme_(?:pedido|solicitado) como_(?:pediu|solicitado) escrevi preparei criei",
        "hier_(?:is|zijn|heb_je) hierbij hieronder zoals_(?:gevraagd|gewenst) ik_heb(?:_\\w+){0,6}_(?:geschreven|gemaakt|opgesteld|herschreven)",
    )
    + r")(?!\w)",
    re.I,
)
"""How it is handed over."""

TASK = re.compile(
    r"(?<!\w)(?:"
    + _any(
        "requested requests? as_asked asked_for instructions? instructed rules guidelines requirements constraints brief prompt tone",
        "(?:character|word)_(?:limit|count) (?:\\d+_)?characters \\d+_words word_count hashtags? emojis? for_you your style_guide",
        "formatting length limit (?:left_out|omitted)_as source_material the_material",
        "gewünscht(?:e[rn]?)? vorgaben regeln anweisungen? anforderungen zeichen tonfall wortzahl für_dich für_sie für_euch dein(?:e[nr]?)?",
        "ihr(?:e[nr]?)? gefordert verlangt",
        "demandée?s? consignes règles caractères instructions pour_vous pour_toi votre vos demande ton",
        "instrucciones reglas caracteres pautas tono para_ti solicitad[oa] pedid[oa] tu",
        "istruzioni regole caratteri richiest[oaie] tono per_te linee_guida tu[oa]",
        "instruções regras caracteres pedid[oa] solicitad[oa] tom diretrizes seu sua para_você",
        "instructies regels tekens gevraagd(?:e)? toon richtlijnen voor_(?:je|jou|u) je jouw uw",
    )
    + r")(?!\w)",
    re.I,
)
"""What was asked for, and by whom."""

WRITER = _words(
    "i i've i'll i'm i'd me my let_me ich mir mich je j'ai me moi m'indiquer yo he_\\w+[ai]do io ho fammi dimmi eu me ik mij mijn"
)
"""Whoever wrote it, of themselves."""

READERS = _words(
    "we we've we're our ours us wir uns unser(?:e[nmrs]?)? nous notre nos nosotros nuestr[oa]s? noi nostr[oaie] nós nosso(?:s)?",
    "nossas? wij we_zijn ons onze",
)
"""Whoever publishes it, of themselves: such a line is of the piece."""

CHANGES = re.compile(
    r"(?<!\w)(?:"
    + _any(
        "changes? changed adjust\\w* tweak\\w* edits? edited revis\\w+ refin\\w+ shorter longer different another alternativ\\w+ feedback",
        "modif\\w+ rework\\w* rephras\\w+ anything_else änder\\w+ änderung\\w* anpass\\w+ kürzer\\w* länger\\w* andere\\w* weitere\\w*",
        "ajust\\w+ autres? plus_court\\w* plus_long\\w* cambi\\w+ otr[oa]s? más_cort\\w+ más_larg\\w+ modific\\w+ altr[oaie] più_(?:cort|brev|lung)\\w+",
        "alter\\w+ outr[oa]s? mais_(?:curt|long)\\w+ aanpass\\w+ wijzig\\w+ ander\\w* korter\\w* langer\\w*",
    )
    + r")(?!\w)",
    re.I,
)
"""What could be done to it."""

OFFERS = re.compile(
    r"(?<!\w)(?:"
    + _any(
        "let_me_know feel_free would_you_like do_you_want shall_i should_i i_can i_could i'd_be happy_to if_you(?:'d|_would)?_(?:like|want|need|prefer)",
        "want_me_to just_(?:say|ask|tell|let) please_(?:tell|confirm|let|review|advise)",
        "lass_(?:es_)?mich lassen_sie_(?:es_)?mich sag(?:_mir)?_(?:gerne?|bitte|einfach|bescheid) sagen_sie möchtest_du möchten_sie soll_ich gerne_(?:kann|passe|schreibe)",
        "ich_kann(?:_\\w+)? bei_bedarf falls_(?:du|sie|ihr|etwas) wenn_(?:du|sie)_(?:möchtest|willst|möchten|wollen) melde_dich",
        "n'hésitez_pas n'hésite_pas dites-moi dis-moi souhaitez-vous voulez-vous veux-tu je_peux je_reste si_vous_(?:souhaitez|voulez|préférez) faites-moi",
        "avísame avíseme dime no_dudes quieres_que te_gustaría puedo si_(?:quieres|necesitas|prefieres|deseas|lo_deseas) hazme_saber",
        "fammi_sapere dimmi vuoi posso se_(?:vuoi|preferisci|desideri|serve) non_esitare",
        "avise-me me_avise diga-me quer_que posso se_(?:quiser|preferir|desejar) não_hesite me_diga gostaria_de",
        "laat_(?:het_)?(?:me|mij|maar)_(?:gerust_)?weten laat_maar_weten wil_je zal_ik ik_kan als_je_(?:wilt|liever|wil) aarzel_niet",
    )
    + r")(?!\w)",
    re.I,
)
"""How more is offered."""

ASIDES = re.compile(
    r"\A\W*(?:i_hope_(?:this|that|it)|hope_(?:this|that)_(?:helps|works)|is_there_anything_else|ich_hoffe,?_(?:das|dies|der|die)_\w+_(?:passt|hilft|gefällt)"
    r"|ich_hoffe,?_(?:das|dies)_(?:passt|hilft)|j'espère_que_(?:cela|ça|ce)|espero_que_(?:esto|te|le|isso|ajude|sirva)|spero_(?:che|di)_(?:questo|ti|sia|vada)"
    r"|ik_hoop_dat_(?:dit|het|je|deze))(?!\w)"
    r"|\A\W*(?:no_)?(?:hashtags?|emojis?|links?)_(?:were|was|are|have_been|is|wurden|wurde|sind|ont_été|fueron|sono_stati|foram|zijn)_(?:\w+_){0,3}"
    r"(?:left|omitted|added|included|removed|avoided|used|weggelassen|ergänzt|hinzugefügt|entfernt|omis|ajoutés|omitidos|añadidos|omessi|aggiunti|weggelaten|toegevoegd)".replace(
        "_", r"\s+"
    ).replace("'", "['’]")
    + rf"|\A\W*(?:this|the|that|dieser?|dieses|der|die|das|cet(?:te)?|ce|la|le|est[ea]|questa?|questo|il|esta|este|o|a|deze|dit|de|het)\s+(?:\w+\s+)?(?:{_PIECE})\s+"
    r"(?:is|has|uses?|stays?|keeps?|follows?|meets?|adheres?|avoids?|captures?|comes|contains?|reflects?|sticks|conveys|highlights|maintains|fits|includes|ist|hat|hält|bleibt"
    r"|entspricht|umfasst|enthält|passt|vermittelt|respecte|compte|fait|contient|reste|suit|cumple|tiene|respeta|sigue|mantiene|rispetta|contiene|ha|segue|mantém|respeita|contém|tem"
    r"|voldoet|heeft|blijft|bevat|volgt|telt)\b[^\n]*(?<!\w)(?:limits?|tone|rules|instructions?|guidelines|requirements|requested|brief|characters|words|hashtags?|voice|style|zeichen|vorgaben"
    r"|regeln|tonfall|anforderungen|wörter|wörtern|consignes|règles|caractères|mots|ton|instrucciones|reglas|caracteres|palabras|tono|istruzioni|regole|caratteri|parole|instruções|regras|palavras|tom"
    r"|instructies|regels|tekens|woorden|toon)(?!\w)",
    re.I,
)
"""What is said of the piece when it is done."""

_UNIT = r"(?:characters?|chars?|words?|zeichen|wörter|worte|caractères|mots|caracteres|palabras|palavras|caratteri|parole|tekens|woorden)"
COUNTS = re.compile(
    rf"[(\[]\s*(?:~|≈|approx\.?|about|ca\.?|environ)?\s*\d[\d.,]*\s*{_UNIT}[^)\]\n]{{0,40}}[)\]]"
    rf"|(?:total\s+)?(?:character|char|word|zeichen|wort|wörter|caractères|mots|caracteres|palabras|palavras|caratteri|parole|tekens|woorden|length|länge|longueur|longitud|lunghezza)s?"
    rf"(?:[\s-]*(?:count|zahl|anzahl|length|total|used))?\s*[:=]\s*(?:~|≈|ca\.?|about)?\s*\d[^\n]{{0,60}}"
    rf"|(?:nombre\s+de|número\s+de|numero\s+di|aantal)\s+{_UNIT}\s*[:=]?\s*\d[^\n]{{0,40}}",
    re.I,
)
"""What was counted of it."""

ASSENT = re.compile(
    r"(?:"
    + _any(
        "sure(?:_thing)? certainly of_course absolutely gladly no_problem got_it understood great_question happy_to_help with_pleasure my_pleasure",
        "okay ok alright definitely you_got_it",
        "gerne natürlich selbstverständlich klar aber_gerne?n? sehr_gerne verstanden alles_klar",
        "bien_sûr certainement avec_plaisir d'accord volontiers entendu absolument",
        "claro(?:_que_sí)? por_supuesto con_(?:mucho_)?gusto desde_luego entendido de_acuerdo",
        "certo certamente con_piacere volentieri ma_certo va_bene",
        "com_certeza claro com_prazer certamente entendido",
        "natuurlijk zeker graag(?:_gedaan)? prima uiteraard begrepen",
    )
    + r")\s*[!.,:–—-]+\s*",
    re.I,
)
"""How a task is taken."""

LABELS = re.compile(
    r"(?:(?:final|revised|updated|short|shorter|rewritten|new|sample|suggested|first|second|the|überarbeiteter?|neuer?|endgültiger?|finale?|version)\s+)?"
    r"(?:(?:social|media|short|blog|web|e-?mail)\s+)?(?:post|draft|caption|version|option|variant|alternative|answer|response|output|result|rewrite|text|copy|teaser"
    r"|beitrag|entwurf|fassung|antwort|variante|ergebnis|publication|brouillon|texte|réponse|proposition|publicación|borrador|texto|respuesta|versión|opción|propuesta"
    r"|bozza|testo|risposta|versione|opzione|proposta|publicação|rascunho|resposta|versão|opção|bericht|concept|tekst|antwoord|versie|optie|voorstel)"
    r"(?:\s+(?:text|copy|version|draft|final|finale|revisada|corregida|rivista))?(?:\s*#?\d{1,2})?(?:\s*\([^)\n]{1,40}\))?"
    r"(?:\s*[*_]{0,3}\s*[:：][*_]{0,3}|(?:\s*\d{1,2})?\Z)",
    re.I,
)
"""What a piece is labelled with."""

THINKS = re.compile(
    r"(?:(?:okay|ok|alright|right|hmm+|so|well|first|also)[,.]?\s+)*(?:"
    r"the\s+user\b|let\s+me\s+(?:think|start|draft|write|check|analy[sz]e|count|re-?read)|let['’]?s\s+(?:think|draft|write|count|analy[sz]e)"
    r"|(?:we|i)\s+(?:need|have|should|must|want|will|am\s+going)(?:\s+to)?\s+(?:write|produce|create|make|keep|craft|draft|include|answer|respond|mention|summari[sz]e)"
    r"|i['’]ll\s+(?:write|draft|start|keep|make)"
    r"|(?:der|die)\s+(?:nutzer|benutzer|user|anwender)(?:in)?\s+(?:möchte|will|bittet|braucht)|ich\s+(?:muss|soll|sollte)\s+[^\n]{0,60}(?:schreiben|verfassen|erstellen)"
    r"|lass\s+mich\s+(?:überlegen|nachdenken)|l['’]utilisateur|je\s+dois\s+(?:rédiger|écrire|produire)|el\s+usuario|(?:debo|necesito)\s+(?:escribir|redactar)|déjame\s+pensar"
    r"|l['’]utente|devo\s+(?:scrivere|redigere)|o\s+(?:usuário|utilizador)|(?:preciso|devo)\s+(?:escrever|criar)|de\s+gebruiker|ik\s+moet\s+[^\n]{0,60}(?:schrijven|maken)"
    r"|laat\s+me\s+(?:eens\s+)?(?:denken|nadenken)|thinking\s*:|reasoning\s*:|analysis\s*:)",
    re.I,
)
"""How a model thinks aloud."""
