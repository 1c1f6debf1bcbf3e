"""How people say what is to be done: the words for verbs, times, events and lines, as tables for `describing`."""

from __future__ import annotations

import calendar
import re

DONE = (
    "write|draft|read|ask|search|sum|summari[sz]e|publish|post|add|put|take|make|send|(?:e-?)?mail|find|tell|look|choose|pick|say|judge|open|"
    "queue|share|record|save|store|merge|plan|edit|turn|call|announce|note|log|approve|research|translate|wait|stop|show|render|"
    "hand|update|change|pass|fetch|gather|collect|get|submit|list|message|analy[sz]e|give|draw|go on|suggest|propose|let|have|"
    "produce|compile|prepare|generate|create|come up|boil|polish|outline|combine|pull|drop|fill|check|rate|select|visit|go through|"
    "notify|inform|answer|join|invent|keep|made into|break|improve|shorten|rewrite|condense|forward|match|study|scan|compare|enter|place|upload|release|explain"
)
# What is said to be done by nobody in particular: its order.
PARTICIPLES = {
    "written": "write", "drafted": "draft", "analysed": "analyse", "analyzed": "analyse", "summarised": "summarise",
    "summarized": "summarise", "searched": "search", "researched": "research", "answered": "answer", "merged": "merge",
    "combined": "combine", "stored": "store", "saved": "save", "published": "publish", "posted": "post", "mailed": "mail",
    "rendered": "render", "compiled": "compile", "translated": "translate", "planned": "plan", "rated": "rate", "added": "add",
    "collected": "collect", "gathered": "gather", "edited": "edit", "logged": "log", "produced": "produce", "generated": "generate",
    "created": "create", "drawn up": "draft", "put together": "put together", "sent": "send", "emailed": "mail",
    "noted": "note", "updated": "update", "fetched": "fetch", "opened": "open",
}  # fmt: skip
BEING = "|".join(PARTICIPLES)
# “gardeners and boaters” are not two things to do; “and add a row” and “and a title” are.
AND = (
    rf"\band (?=(?:then |also )?(?:(?:it|the model|I|we|you) )?(?:{DONE})\b|(?:an?|its|one|keywords|if)\b|(?:in|to) the team|"
    r"\w+ (?:approves|looks|says)\b)"
)
CLAUSES = re.compile(
    rf"[;.:!?]\s+|,\s+(?!\d|and \d)|\b(?:and then|then|afterwards|finally)\b|{AND}|"
    r"(?<=\w)\s+(?=(?:write|draft|read|ask)\b)(?<!to )(?<!worth )(?<!\ba )",
    re.I,
)
URL = re.compile(r"https?://[^\s<>\"”,]*[^\s<>\"”,.:;!?)]")
MAIL = re.compile(r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+")
QUERY = re.compile(r"\b(?:for|about|on) (.+?)(?: (?:of|from|in|over) the (?:last|past)\b.*)?[.;]?$", re.I)
WHOLE = re.compile(r"\b(?:from|of|out of) (?:the|all|these|those)\b|\btogether\b|\bdigest\b|\bround-?up\b|\bone list\b", re.I)
MORE = re.compile(
    r"^(?:an?|its|the|one) (?:[\w-]+ )?(?:title|subject|teaser|summary|headline|hook|line|comment|post|mail|letter|ps|picture|one)\b|^keywords$",
    re.I,
)
SUBJECT = re.compile(r"^\W*(?:please |it (?=\w+s\b)|the model (?=\w+s\b)|I |we |you |have \w+ |let \w+ |then )*", re.I)
THIRD = re.compile(r"^(\w+?)(?:(?<=i)es|(?<=[sxz])es|(?<=ch)es|s)\b")
VERB = re.compile(
    r"^(?P<verb>(?:write|draft|compose|make|plan|merge|edit|rewrite|translate)\s+)?(?:(?:an?|the|some|each|one|all|them|it)\s+)*",
    re.I,
)
WHAT = re.compile(r"\s+(?:of|in|with|without|for|from|about|under|at|to|that|on|by|so)\b|[,;]", re.I)
DAYS = {day.lower(): day[:2].upper() for day in calendar.day_name}
HOURS = {"at seven": 7, "at eight": 8, "at nine": 9, "at ten": 10, "noon": 12, "afternoons?": 14, "evenings?": 18}
OFTEN = {"two": 2, "twice": 2, "three": 3, "four": 4, "several": 3}
IF = re.compile(r"\bif (?P<if>[^,]+), (?:then )?(?P<then>.+?)(?:[,;.] (?:otherwise|else|if not),? (?P<else>.+?))?[.;]?$", re.I)
ALL = re.compile(
    r"\b(?:for )?(?:each|every one) of\b|\bfor (?:each|every)\b|"
    r"(?:(?<=\bread)|(?<=\bopen)|(?<=\bwrite)|(?<=\bturn)|(?<=\bdraft)) (?:each|every|all)\b",
    re.I,
)
ORDERS = (
    # What is done to it, as one would order it.
    (
        rf"^(?P<what>(?:the|an?|each|every|all|its|one|everything)\b.*?)? ?(?:is|are|gets?|get) (?:then |also )?(?P<done>{BEING})\b",
        "",
    ),
    (rf"^(?:have|get) (?P<what>(?:the|an?|its|one)\b.*?) (?P<done>{BEING})\b", ""),
    (rf"^(?P<done>{BEING})(?= (?:with|from|by|in|to|into|on)\b|$)", ""),
    (r"^(?:take|pull|get|fetch|make|extract) (?=(?:the )?chapters\b)", "get "),
    (r"^the team (?:hears|gets|is told)\b", "tell the team"),
    (r"^(?:it|they|this) (?:then )?(?:appears?|comes? out|goes live) (?=on\b)", "post it "),
    (r"^(?:it|they|this|that) (?:then )?(?:lands?|stands?) (?=in\b)", "put it "),
    (r"^made into (?=an?\b)", "write "),
    (r"^let (?P<what>the team|everybody|everyone|us) know\b", "tell the team"),
    (r"^(?:notify|inform) (?:the )?team\b", "tell the team"),
    (
        r"^(?:drop|leave|put|give) (?:it |them |that |this |a (?:\w+ )?(?:note|line|message) )?(?:in|into|to) the team\b",
        "tell the team",
    ),
    (r"^give the team\b", "tell the team"),
    (r"^run (?:it|that|this|them|the \w+) (?:past|by)\b", "show it to"),
    (r"^(?:it|they|this|that) (?:is|are|gets?|then) (?:then )?(?:posted|published|put out)\b", "post it"),
    (r"^(?:it|they|this|that) (?:is|are|gets?) (?:then )?(?:mailed|sent)\b", "send it"),
    (r"^(?:it|they|this|that) (?:is|are|gets?) (?:then )?(?:saved|stored)\b", "save it"),
    (r"^(?:it|they) goes? (?:out )?(?=on|to|in)", "post it "),
    (r"^in(?:to)? the team", "tell the team"),
    (r"^to the team", "tell the team"),
    (r"^.*\b(?:becomes?|is (?:turned|made) into) (?=an?\b)", "write "),
)
ONLY = re.compile(r"(?:\band |,)?\s*\b(?:go on |continue )?only$", re.I)
# A yes that was asked for already, or is asked for by this.
AGREED = re.compile(
    r"(?P<lead>^|[,;.] ?|\band )(?:if|when|once|after|as soon as) (?P<who>he|she|they|it|I|\w+)(?: has| have| is)?(?: been)? "
    r"(?:agrees?d?|approves?d?|says? yes|said yes|oka?y(?:s|ed)?|is happy)\b(?: (?:it|them|both|with it))?,? ",
    re.I,
)
# Where something ends unless something else: the same the other way round.
UNLESS = re.compile(
    r"\b(?:stop(?: here)?|end(?: here)?|ignore (?:it|them)|skip (?:it|them)|leave (?:it|them)(?: out)?|drop (?:it|them)|do nothing) unless (?P<if>[^,.;]+)[,.;]\s*",
    re.I,
)
IF_NOT = re.compile(
    r"\bif (?P<who>it|they|the \w+) (?:does|do)(?: not|n[’']t) (?P<verb>\w+)(?P<what>[^,.;]*), (?:then )?"
    r"(?:stop(?: here)?|end(?: here)?|ignore (?:it|them)|skip (?:it|them)|leave (?:it|them)(?: out)?|drop (?:it|them)|do nothing)[,.;]\s*(?:otherwise,? )?",
    re.I,
)
INTO_ROW = re.compile(
    r"^(?P<write>(?:write|draft|compose) .+?) (?P<row>(?:in|in?to) (?:the|its|that|\w+[’']s) (?:\w+[’']s )?row|(?:beside|next to) (?:it|them|the \w+))$",
    re.I,
)
BEFORE = re.compile(r"^(?P<ask>.*\bapproves? (?:it|them)) before (?P<out>(?:it|they) (?:is|are|goes?)\b.*)$", re.I)
# What stands at the head of a description and is no order: something that happens.
HAPPENS = re.compile(
    r"^(?:(?:for )?(?:each|every|all) new\b|new\b|somebody\b|someone\b|people\b|whoever\b|(?:a|any|every) (?:person|visitor|reader|colleague)\b|"
    r"(?:from |on |with |through |via |by )?(?:(?:an?|our|the) )?(?:form|call)\b|(?:our|the|another) [\w ]+ (?:calls|sends us)\b|"
    r"(?:each|every) (?:lead|row|customer|contact|story)\b|an? (?:new|customer|lead|row|mail|question|topic)\b|(?:the|our) (?:[\w ]+ )?feed\b|(?:given|with) an? \w+ by hand\b)",
    re.I,
)
OF_A_FEED = re.compile(
    r"\b(?:every|each|all) new (?:articles?|items?|story|stories|posts?|episodes?|recordings?) (?:of|in|from|on)\b", re.I
)
READ_IT = re.compile(r"^(?:read|open) (?:it|them)$|^(?:it|they) (?:is|are) read$", re.I)
WATCH = re.compile(r"^(?:watch|follow|monitor|keep an eye on|check)\b.*(?:\bfeed\b|https?://)", re.I)
HAVE = re.compile(r"^(?:I|we) have\b", re.I)
TRAILING = frozenset(
    [
        "about",
        "of",
        "from",
        "for",
        "to",
        "with",
        "on",
        "the",
        "a",
        "an",
        "it",
        "in",
        "that",
        "our",
        "my",
        "your",
        "its",
        "all",
        "each",
    ]
)

# What a page begins with, by the words of the clause that tells of it.
BEGINS = (
    ("sheet_row", r"\b(?:next|unused)\b.*\b(?:rows?|topics?|leads?|lines?|ideas?|one)\b|^(?!.*\b(?:draw|pick)\b).*\b(?:topic|row|lead|idea)\b.* from (?:an?|the|our|my)\b.*\b(?:list|sheet)\b|\bone (?:topic|row|lead|idea) (?:from|of)\b.*\ba day\b"),
    ("new_row", r"\bnew (?:rows?|leads?|lines?|entry|customers?|contacts?)\b|\bis (?:added|entered|put in)\b|\b(?:lead|row|customer|contact|entry)\b.*\b(?:lands|arrives|comes in|turns up|appears)\b|\b(?:adds|enters|puts in) (?:an?|another) |\bnew \w+ in (?:the|our|my) (?:sheet|list|table)\b"),
    ("mail_received", r"\b(?:mail|letter|message)s? (?:arrives?|comes?|is received)\b|\bwrites to\b|\bnew mail\b|\bincoming mail\b"),
    ("calendar_entry", r"\b(?:meeting|appointment|calendar)s?\b"),
    ("form", r"\bforms?\b|\bfills?\b|\b(?:uploads?|submits?|hands? in)\b"),
    ("call", r"\bcalls?\b|\bwebhook\b|\bdatabase\b"),
    ("after_workflow", r"\bworkflow\b"),
    ("feed_item", r"\bfeed\b|\bnews\b|\b(?:podcast|episode|recording|story|article|post|item|blog)s?\b"),
    ("by_hand", r"\bby hand\b|\bbutton\b|\bI (?:type|press|give|enter|ask|start)\b|\bon demand\b"),
)  # fmt: skip
EVENT = re.compile(
    r"^(?:when(?:ever)?|as soon as|each time|every time|once|after|if|for (?:each|every|all) new|(?:\w+ ){0,3}before (?:an?|each|every|my|our|the)|I (?:type|press|give|enter|ask an?|start))\b",
    re.I,
)
TIME = re.compile(
    r"\b(?:once|twice|(?:two|three|four|several) times) an? (?:day|week|month)\b|"
    r"\b(?:on|every|each) (?:(?:other )?(?:\d+ )?(?:weekdays?|working days?|days?|weeks?|months?|hours?|minutes?|mornings?|evenings?|"
    r"(?:mon|tues|wednes|thurs|fri|satur|sun)days?)(?:,? (?:and )?)?)+|\b(?:hourly|daily|weekly|monthly)\b|"
    r"\b(?:a|per) day\b|\bin the (?:early )?(?:mornings?|afternoons?|evenings?)\b|"
    r"\bat \d{1,2}(?:[:.]\d\d)?(?:(?:,| and|, and) \d{1,2})*(?:\s*[ap]m)?\b|\bat (?:seven|eight|nine|ten|noon)\b",
    re.I,
)

# What a clause asks for, by the words it begins with; the first that fits and is on the menu.
LINES = (
    ("ask_service", r"^(?:read|fetch|get|take|look|pull)\b.*\brecord\b|^(?:find|look|get|pull|fetch)\b.*\b(?:in|from|at|with) (?:the )?(?:[\w ]+ (?:database|service)|contact data)\b"),
    ("message_room", r"^tell the team\b"),
    ("act_at_service", r"^(?:save|write|put|store|enter)\b.*\b(?:back|record)\b.*\b(?:database|service|record)\b|^(?:send|forward|give|pass|hand)\b.*\bon to\b"),
    ("ask_service", r"^(?:ask|call|query)\b.*\b(?:service|database)\b|^call (?:it |them )?back\b|^(?:ask|look up|look)\b.*\bcontact data\b"),
    ("ask", r"^ask\b|\bapprov(?:es?|al)\b|^(?:let|have|get)\b.*\b(?:look|check|ok|okay|see)\b|^show\b.*\bto\b|^show\b.*\b(?:me|editor|client)\b|\b(?:says?|say) yes\b|\bfor (?:a|an|her|his|their) (?:yes|ok|okay|approval)\b|\blook(?:s|ed)? at\b|\bsign(?:s|ed)? (?:it )?off\b|^have\b.*\b(?:checked|passed|approved)\b|^let\b.*\bpass\b|\bto (?:me|the editor) first\b|^wait for\b.*\b(?:yes|ok|okay|approval|go-ahead)\b|^get\b.*\b(?:ok|okay|yes|blessing|go-ahead)\b|\b(?:is|are) approved by\b|^have\b.*\b(?:check|look|okay|approve|read over)\b|\bokay(?:s|ed)?\b|^check(?:ed)? (?:it )?(?:by|with)\b"),
    ("write_row", r"\b(?:beside|next to)\b.*\b(?:it|row|topic|lead|them|its)\b|\b(?:same|its|that) row\b|^update\b.*\brow\b|\b(?:in|into|to) (?:the|\w+[’']s) (?:\w+[’']s )?row\b"),
    ("draft", r"^put\b.*\btogether\b|^(?:draw up|join|break it down|write down)\b|^(?:add|give|find|think of|invent|come up with)\b.*\b(?:title|headline|icebreaker|hook|angle|idea)s?\b|^come up with\b"),
    ("search", r"^(?:search|look for|look around for|research(?:es)?)\b|^(?:check|scan|browse|look (?:it|them|this) up|look up|look)\b.*\b(?:news|web|internet|online)\b|^what (?:is|was|were|are)\b.*\bnews?\b|^find out what\b|^find (?:[\w-]+ ){0,3}(?:news|stories|articles|results|posts)\b"),
    ("choose_pages", r"^(?:choose|pick|select)\b.*\b(?:pages?|links?)\b"),
    ("pick_one", r"^(?:pick|draw|choose) (?:one|an?)\b"),
    ("read_transcript", r"\btranscripts?\b|\bchapters\b"),
    ("read_feed", r"^(?:read|take|collect|open)\b.*\bfeeds?\b"),
    ("read_mails", r"^(?:read|collect|go through)\b.*\b(?:mails?|letters|mailbox|inbox)\b"),
    ("read_calendar", r"^(?:read|look (?:at|up)|take)\b.*\b(?:calendar|meetings|appointments)\b"),
    ("read_file", r"^(?:read|open|take)\b.*\b(?:pdf|report|files?|documents?)\b"),
    ("site_links", r"^(?:find|collect|list|gather|get)\b.*\blinks\b"),
    ("read_page", r"^(?:read|open|visit|fetch|study)\b|^go through\b.*\b(?:pages?|articles?|results?|them)\b|^go through$"),
    ("find_rows", r"^(?:find|look up|take|get|match)\b.*\b(?:rows?|sheet|products?|offers?|examples?|liked)\b"),
    ("run_job", r"\brender\b|^submit\b|^have\b.*\bmake the (?:film|video)\b"),
    ("run_workflow", r"^run\b.*\bworkflow\b"),
    ("picture", r"^(?:make|draw|create|paint|generate)\b.*\b(?:pictures?|images?|photos?)\b|^an? (?:[\w-]+ )?(?:picture|image)\b"),
    ("publish_article", r"^save\b.*\b(?:draft article|blog|review)\b"),
    ("save_file", r"^(?:save|put|store|file|keep|upload)\b.*\b(?:files?|folder|documents?)\b"),
    ("add_row", r"^(?:add|put|write|record|note|save|store|enter|log)\b.*\b(?:rows?|sheet|list|table|beside|topic)\b|^(?:record|note|log) (?:it|them|that|this)\b"),
    ("publish_listing", r"^(?:list it|(?:list|show|put|publish|post)\b.*\b(?:listing|listed|market|local businesses)\b)"),
    ("publish_article", r"^(?:publish|put|post)\b.*\b(?:blog|articles?|review|as a draft)\b"),
    ("send_letter", r"^(?:send|e-?mail)\b(?: \w+){0,3} (?:me|myself)\b|^(?:send|e-?mail) me\b"),
    ("send_mailing", r"^(?:send|mail)\b.*\b(?:lists?|readers|subscribers|mailing)\b"),
    ("message_room", r"^(?:send|tell|post|message|share|announce)\b.*\b(?:team|room|channel|chat)\b"),
    ("send_letter", r"^(?:send|mail)\b.*\bby e?-?mail\b"),
    ("send_letter", r"^(?:send|mail|write)\b.*\b(?:letters?|(?<!by )e?-?mails?)\b|^mail\b"),
    ("act_at_service", r"^(?:hand\b.*\b(?:over|to)\b|pass\b.*\bto\b|(?:change|update)\b.*\b(?:record|service|database)\b)"),
    ("publish_post", r"^(?:publish|post|queue|send|mail|share|announce|tell|message)\b"),
    ("wait", r"^wait\b"),
    ("stop", r"^(?:stop|end)\b"),
    ("assignment", r"\bassistant\b|\bby itself\b|\bassignment\b"),
    ("draft", r"^(?:write|draft|compose|sum|analy[sz]e|summari[sz]e|make|plan|merge|edit|say|judge|rate|sort|rewrite|translate|propose|suggest|turn|explain|answer|outline|combine|polish|compile|improve|shorten|condense|boil|prepare|rewrite)\b"),
)  # fmt: skip
