"""How English texts at large are, written by ``make fit``: in how many of so many paragraphs a turn stands (those in fewer than 3
are left out), and the middle and spread of habits."""

PARAGRAPHS = 158
HABITS = {
    "sentence": (2.730, 0.248),
    "uneven": (0.404, 0.184),
    "ours": (0.022, 0.060),
    "yours": (0.014, 0.049),
    "bare start": (0.271, 0.320),
    "question": (0.033, 0.139),
    "figure": (0.123, 0.111),
    "short form": (0.018, 0.050),
    "comma": (0.903, 0.305),
    "small": (0.459, 0.055),
    "word": (1.419, 0.063),
    "ed": (0.215, 0.095),
    "the": (0.334, 0.052),
}
_TURNS = """
    b:, 9 30 | b:, X 105 | b:, a 17 | b:, after 4 | b:, and 97 | b:, as 4 | b:, at 3 | b:, but 13 | b:, each 3 | b:,
    for 5 | b:, from 4 | b:, had 3 | b:, has 3 | b:, he 4 | b:, in 5 | b:, is 4 | b:, of 4 | b:, says 27 | b:, she 7 |
    b:, so 9 | b:, the 26 | b:, to 3 | b:, when 4 | b:, where 8 | b:, which 24 | b:, who 18 | b:, with 15 | b:. 9 16 |
    b:. X 97 | b:. a 24 | b:. after 3 | b:. and 3 | b:. by 6 | b:. each 7 | b:. for 6 | b:. from 5 | b:. he 6 | b:. i
    4 | b:. if 7 | b:. in 20 | b:. it 25 | b:. now 7 | b:. of 7 | b:. on 9 | b:. she 7 | b:. that 5 | b:. the 75 | b:.
    there 9 | b:. they 13 | b:. this 4 | b:. those 4 | b:. we 10 | b:. what 4 | b:. when 3 | b:. with 4 | b:. you 3 |
    b:9 , 32 | b:9 . 32 | b:9 X 80 | b:9 a 6 | b:9 and 8 | b:9 for 7 | b:9 had 4 | b:9 in 6 | b:9 it 3 | b:9 of 7 |
    b:9 to 3 | b:9 were 3 | b:: 9 8 | b:: X 12 | b:: each 3 | b:: the 4 | b:; X 4 | b:; the 5 | b:? the 5 | b:X , 152
    | b:X . 158 | b:X 9 50 | b:X : 28 | b:X ; 17 | b:X ? 7 | b:X X 158 | b:X a 71 | b:X about 4 | b:X after 7 | b:X
    all 7 | b:X an 8 | b:X and 104 | b:X are 30 | b:X as 18 | b:X at 60 | b:X be 10 | b:X by 39 | b:X can 21 | b:X did
    5 | b:X do 3 | b:X does 3 | b:X down 7 | b:X each 7 | b:X for 75 | b:X from 53 | b:X had 23 | b:X has 35 | b:X
    have 17 | b:X her 7 | b:X how 3 | b:X if 6 | b:X in 93 | b:X into 17 | b:X is 56 | b:X it 40 | b:X its 11 | b:X
    made 3 | b:X more 17 | b:X no 3 | b:X not 5 | b:X now 3 | b:X of 125 | b:X off 4 | b:X on 77 | b:X once 3 | b:X
    only 7 | b:X or 10 | b:X out 26 | b:X over 7 | b:X says 3 | b:X she 5 | b:X so 7 | b:X some 3 | b:X than 11 | b:X
    that 38 | b:X the 101 | b:X their 5 | b:X them 21 | b:X then 4 | b:X there 10 | b:X they 17 | b:X this 6 | b:X
    those 3 | b:X to 79 | b:X under 8 | b:X until 14 | b:X up 20 | b:X us 4 | b:X was 19 | b:X we 3 | b:X were 17 |
    b:X what 5 | b:X when 4 | b:X where 3 | b:X while 4 | b:X who 16 | b:X will 19 | b:X with 51 | b:X without 9 | b:X
    would 5 | b:X you 6 | b:a X 138 | b:about 9 4 | b:about X 7 | b:after X 6 | b:after the 6 | b:all X 9 | b:also X 3
    | b:an X 19 | b:and 9 6 | b:and X 91 | b:and a 31 | b:and can 3 | b:and has 3 | b:and i 3 | b:and in 3 | b:and it
    3 | b:and its 3 | b:and no 3 | b:and not 3 | b:and on 4 | b:and the 35 | b:and they 3 | b:and was 7 | b:and will 4
    | b:any X 4 | b:are 9 4 | b:are X 34 | b:as X 17 | b:as a 5 | b:as the 4 | b:as those 3 | b:at 9 10 | b:at X 40 |
    b:at once 3 | b:at the 27 | b:be X 26 | b:be a 3 | b:been X 17 | b:but it 3 | b:by X 35 | b:by a 5 | b:by the 16 |
    b:can X 14 | b:can be 10 | b:could X 3 | b:did X 3 | b:did not 4 | b:do not 6 | b:does not 3 | b:each X 19 | b:for
    . 3 | b:for 9 14 | b:for X 52 | b:for a 13 | b:for it 4 | b:for its 3 | b:for the 20 | b:from 9 5 | b:from X 32 |
    b:from a 8 | b:from the 27 | b:had X 26 | b:had a 3 | b:had been 6 | b:had to 7 | b:has 9 4 | b:has X 36 | b:has a
    5 | b:has been 6 | b:have X 20 | b:have been 7 | b:have to 4 | b:he X 4 | b:he says 4 | b:her X 9 | b:his X 8 |
    b:how X 5 | b:how we 3 | b:i have 6 | b:if X 5 | b:if it 4 | b:if the 3 | b:in 9 13 | b:in X 63 | b:in a 20 | b:in
    the 53 | b:in which 6 | b:into a 6 | b:into the 7 | b:is X 56 | b:is a 6 | b:is how 3 | b:is no 3 | b:is not 6 |
    b:is the 12 | b:it , 5 | b:it . 12 | b:it X 31 | b:it does 3 | b:it for 5 | b:it has 4 | b:it is 11 | b:it was 10
    | b:it will 4 | b:its X 29 | b:its own 3 | b:made from 3 | b:more X 6 | b:more than 10 | b:most X 6 | b:most of 4
    | b:never X 4 | b:new X 10 | b:no X 16 | b:nobody X 5 | b:not . 3 | b:not X 23 | b:nothing X 4 | b:now X 4 | b:now
    they 4 | b:of 9 15 | b:of X 91 | b:of a 9 | b:of all 3 | b:of each 3 | b:of it 5 | b:of its 10 | b:of that 3 |
    b:of the 51 | b:of their 3 | b:of them 16 | b:of which 3 | b:on 9 3 | b:on X 39 | b:on a 11 | b:on its 4 | b:on
    the 44 | b:once . 3 | b:once X 3 | b:only X 10 | b:or X 7 | b:other X 5 | b:our X 3 | b:out X 4 | b:out in 3 |
    b:out of 5 | b:over the 3 | b:own X 5 | b:said X 3 | b:says . 8 | b:says X 24 | b:she X 6 | b:she has 3 | b:she
    says 6 | b:so X 8 | b:so that 7 | b:some 9 3 | b:some X 3 | b:than X 10 | b:than a 4 | b:that X 28 | b:that a 4 |
    b:that is 7 | b:that the 11 | b:that was 7 | b:the 9 6 | b:the X 157 | b:the new 5 | b:the other 6 | b:their X 12
    | b:their own 3 | b:them , 4 | b:them . 6 | b:them X 13 | b:them in 4 | b:them into 3 | b:then X 3 | b:there are 9
    | b:there is 12 | b:there were 5 | b:they X 32 | b:they are 8 | b:they have 4 | b:they were 3 | b:this X 17 |
    b:those who 8 | b:to 9 6 | b:to X 68 | b:to a 4 | b:to be 13 | b:to the 14 | b:too X 5 | b:under the 6 | b:until X
    5 | b:until the 9 | b:up , 3 | b:up . 4 | b:up X 5 | b:up to 4 | b:us . 3 | b:was X 34 | b:was the 7 | b:we X 12 |
    b:we had 4 | b:were X 25 | b:what X 6 | b:when X 7 | b:when the 5 | b:where the 4 | b:which X 15 | b:which is 4 |
    b:which was 3 | b:who X 28 | b:who has 3 | b:will X 23 | b:will be 6 | b:with 9 4 | b:with X 32 | b:with a 21 |
    b:with the 9 | b:without X 9 | b:without a 3 | b:would X 6 | b:would have 3 | b:you X 8 | b:you will 3 | c:. 158 |
    c:? 9 | e:ad 18 | e:ak 3 | e:al 18 | e:am 9 | e:an 19 | e:ap 4 | e:ar 58 | e:as 9 | e:at 37 | e:aw 3 | e:ay 75 |
    e:ba 4 | e:by 18 | e:ce 70 | e:ch 25 | e:ck 57 | e:co 31 | e:ct 7 | e:de 27 | e:ds 48 | e:dy 12 | e:ea 10 | e:ed
    135 | e:ee 59 | e:ek 13 | e:el 20 | e:en 107 | e:ep 10 | e:er 118 | e:es 122 | e:et 64 | e:ew 20 | e:ey 48 | e:fe
    3 | e:ft 11 | e:ge 30 | e:gh 17 | e:go 18 | e:gs 26 | e:hs 5 | e:ht 45 | e:ic 3 | e:id 14 | e:ie 6 | e:il 13 |
    e:in 41 | e:ip 12 | e:ir 8 | e:it 14 | e:ix 20 | e:ke 23 | e:ks 46 | e:la 6 | e:ld 48 | e:le 60 | e:lf 23 | e:lk
    11 | e:ll 44 | e:lp 4 | e:ls 22 | e:lt 9 | e:ly 36 | e:me 53 | e:mn 4 | e:mp 11 | e:ms 7 | e:na 3 | e:nd 77 | e:ne
    81 | e:ng 112 | e:nk 27 | e:nn 8 | e:ns 47 | e:nt 54 | e:ny 12 | e:od 17 | e:of 3 | e:og 3 | e:ok 14 | e:ol 16 |
    e:om 9 | e:on 55 | e:op 15 | e:or 9 | e:ot 13 | e:ow 47 | e:pe 8 | e:ph 5 | e:ps 18 | e:pt 13 | e:ra 5 | e:rd 33 |
    e:re 53 | e:rf 11 | e:rk 12 | e:rm 9 | e:rn 7 | e:rs 84 | e:rt 15 | e:ry 55 | e:se 46 | e:sh 17 | e:sk 3 | e:ss 26
    | e:st 111 | e:sy 3 | e:te 38 | e:th 42 | e:to 6 | e:ts 103 | e:tt 3 | e:ty 33 | e:ua 3 | e:ub 4 | e:ud 3 | e:ue
    12 | e:ug 4 | e:um 3 | e:un 7 | e:up 6 | e:ur 35 | e:us 4 | e:ut 32 | e:ve 78 | e:wn 20 | e:wo 44 | e:ws 11 | e:xt
    11 | e:ys 38 | e:ze 4 | l:1 23 | l:2 51 | l:3 63 | l:4 62 | l:5 65 | l:6 154 | o:Xby 7 | o:Xce 8 | o:Xde 3 | o:Xed
    3 | o:Xee 4 | o:Xen 10 | o:Xer 10 | o:Xes 4 | o:Xle 4 | o:Xnd 4 | o:Xne 9 | o:Xng 11 | o:Xns 4 | o:Xok 3 | o:Xow 3
    | o:Xre 6 | o:Xrs 13 | o:Xry 5 | o:Xse 4 | o:Xst 4 | o:Xth 3 | o:Xts 4 | o:Xty 3 | o:Xut 3 | o:Xve 3 | o:Xwo 6 |
    o:a 27 | o:after 5 | o:and 4 | o:at 4 | o:by 5 | o:each 7 | o:for 9 | o:from 8 | o:he 6 | o:i 5 | o:if 7 | o:in 23
    | o:it 28 | o:most 4 | o:not 3 | o:now 7 | o:of 8 | o:on 10 | o:she 9 | o:that 5 | o:the 107 | o:there 12 | o:they
    12 | o:this 4 | o:those 5 | o:we 10 | o:what 7 | o:when 6 | o:with 4 | o:you 4 | s:a 138 | s:about 14 | s:after 17
    | s:all 21 | s:also 3 | s:an 19 | s:and 149 | s:any 4 | s:are 47 | s:as 26 | s:at 73 | s:be 37 | s:been 19 | s:but
    15 | s:by 51 | s:can 27 | s:could 7 | s:did 11 | s:do 12 | s:does 9 | s:down 8 | s:each 29 | s:for 93 | s:from 67
    | s:had 39 | s:has 53 | s:have 36 | s:he 10 | s:her 10 | s:his 8 | s:how 12 | s:i 11 | s:if 17 | s:in 117 | s:into
    19 | s:is 89 | s:it 80 | s:its 31 | s:made 9 | s:make 4 | s:more 20 | s:most 10 | s:never 5 | s:new 13 | s:no 17 |
    s:nobody 8 | s:none 4 | s:not 34 | s:nothing 8 | s:now 17 | s:of 134 | s:off 5 | s:on 88 | s:once 9 | s:only 15 |
    s:or 12 | s:other 7 | s:our 3 | s:out 29 | s:over 8 | s:own 8 | s:said 5 | s:say 4 | s:says 40 | s:she 18 | s:so
    20 | s:some 6 | s:than 21 | s:that 54 | s:the 157 | s:their 15 | s:them 38 | s:then 10 | s:there 29 | s:they 44 |
    s:this 20 | s:those 13 | s:to 100 | s:too 6 | s:under 10 | s:until 15 | s:up 21 | s:us 7 | s:was 48 | s:we 18 |
    s:were 31 | s:what 17 | s:when 16 | s:where 12 | s:which 33 | s:while 4 | s:who 41 | s:why 3 | s:will 30 | s:with
    70 | s:without 11 | s:would 12 | s:you 16
"""
TURNS = {turn: int(n) for part in _TURNS.split("|") for turn, _, n in [" ".join(part.split()).rpartition(" ")]}
