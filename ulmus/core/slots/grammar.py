"""The grammar of slots and conditions, in the notation of Lark."""

GRAMMAR = r"""
// Three beginnings: the inside of a slot, the inside of an *each*, and a condition in words.
slot: path ("|" filter)*
each: path ("|" filter)* "as" NAME
condition: _any

path: NAME segment*
?segment: "." NAME              -> named
        | "." STRING            -> quoted
        | "[" INDEX "]"         -> counted

filter: "keep" _any             -> keep
      | NAME argument*
?argument: STRING               -> string
         | SIGNED               -> number
         | INDEX                -> number
         | NAME                 -> word

_any: all_ | either
either: all_ ("or" all_)+
?all_: not_ | both
both: not_ ("and" not_)+
?not_: "not" not_               -> negated
     | "(" _any ")"
     | test
test: operand BINARY operand
    | operand ONE_OF operand ("," operand)*
    | operand UNARY
operand: path
       | "(" path ("|" filter)+ ")"
       | literal
?literal: STRING                -> string
        | SIGNED                -> number
        | INDEX                 -> number

UNARY.4: /is\s+not\s+empty\b|is\s+empty\b/
ONE_OF.3: /is\s+not\s+one\s+of\b|is\s+one\s+of\b/
BINARY.2: /is\s+more\s+than\b|is\s+less\s+than\b|is\s+at\s+least\b|is\s+at\s+most\b|is\s+before\b|is\s+after\b|is\s+not\b|is\b|does\s+not\s+contain\b|contains\b|starts\s+with\b|ends\s+with\b|>=|<=|>|</
INDEX.1: /[1-9][0-9]{0,8}(?![0-9.])/
SIGNED: /-?[0-9]+(\.[0-9]+)?/
NAME: /[^\W\d]\w*/
STRING: /"(?:[^"\\\n]|\\["\\])*"/

%ignore /[ \t\r\n]+/
"""
