"""What may be read in more than one right way, as data: abbreviations, units, symbols, spellings.  Common practice."""

from __future__ import annotations


def _table(text: str) -> dict[str, tuple[str, ...]]:
    """Lines of `written = reading | reading`."""
    rows = (line.split("=", 1) for line in text.strip().splitlines())
    return {written.strip(): tuple(r.strip() for r in readings.split("|")) for written, readings in rows}


ABBREVIATIONS = _table("""
mr = mister
mrs = missus | misses | mrs
ms = miss | miz
dr = doctor | drive
prof = professor
st = saint | street
ste = sainte
rev = reverend
fr = father
hon = honourable
capt = captain
col = colonel
gen = general
lt = lieutenant
sgt = sergeant
cpl = corporal
pvt = private
maj = major
cmdr = commander
adm = admiral
gov = governor
sen = senator
rep = representative
pres = president
jr = junior
sr = senior
esq = esquire
bros = brothers
messrs = messers
co = company | co
corp = corporation
inc = incorporated | inc
ltd = limited
dept = department
vs = versus
v = versus | v
etc = et cetera | etcetera
e.g = for example | e g
i.e = that is | i e
cf = compare | c f
viz = namely | viz
ca = circa
c = circa | c
approx = approximately
no = number | no
nos = numbers
vol = volume
ch = chapter
fig = figure
p = page | p
pp = pages
ed = editor | edition
ave = avenue
rd = road
blvd = boulevard
sq = square
mt = mount
ft = feet | foot | fort
in = inches | inch | in
lb = pounds | pound
lbs = pounds
oz = ounces | ounce
mph = miles per hour | miles an hour | m p h
a.m = a m | am
p.m = p m | pm
am = a m
pm = p m
jan = january
feb = february
mar = march
apr = april
jun = june
jul = july
aug = august
sep = september
sept = september
oct = october
nov = november
dec = december
mon = monday
tue = tuesday
tues = tuesday
wed = wednesday
thu = thursday
thurs = thursday
fri = friday
sat = saturday
sun = sunday
""")
WITHOUT_A_STOP = frozenset("mr mrs ms dr st jr sr lb lbs oz mph am pm vs etc ft".split())
"""Abbreviations that many houses write without a full stop."""

SYMBOLS = _table("""
& = and | ampersand
% = percent | per cent
+ = plus | and
@ = at
# = number | hash | pound
× = times | by
÷ = divided by
° = degrees
§ = section
© = copyright
/ = slash | or
* = star | asterisk
~ = about | tilde
< = less than
> = greater than | more than
→ = to
""") | {"=": ("equals", "is")}

# one, many
UNITS: dict[str, tuple[str, str]] = {
    written: (one, many)
    for written, one, many in (
        ("km", "kilometre", "kilometres"),
        ("m", "metre", "metres"),
        ("cm", "centimetre", "centimetres"),
        ("mm", "millimetre", "millimetres"),
        ("kg", "kilogram", "kilograms"),
        ("g", "gram", "grams"),
        ("mg", "milligram", "milligrams"),
        ("l", "litre", "litres"),
        ("ml", "millilitre", "millilitres"),
        ("cl", "centilitre", "centilitres"),
        ("ft", "foot", "feet"),
        ("in", "inch", "inches"),
        ("yd", "yard", "yards"),
        ("yds", "yard", "yards"),
        ("mi", "mile", "miles"),
        ("lb", "pound", "pounds"),
        ("lbs", "pound", "pounds"),
        ("oz", "ounce", "ounces"),
        ("st", "stone", "stone"),
        ("mph", "mile per hour", "miles per hour"),
        ("km/h", "kilometre per hour", "kilometres per hour"),
        ("kph", "kilometre per hour", "kilometres per hour"),
        ("kn", "knot", "knots"),
        ("hz", "hertz", "hertz"),
        ("khz", "kilohertz", "kilohertz"),
        ("mhz", "megahertz", "megahertz"),
        ("db", "decibel", "decibels"),
        ("w", "watt", "watts"),
        ("kw", "kilowatt", "kilowatts"),
        ("v", "volt", "volts"),
        ("s", "second", "seconds"),
        ("sec", "second", "seconds"),
        ("min", "minute", "minutes"),
        ("hr", "hour", "hours"),
        ("hrs", "hour", "hours"),
        ("h", "hour", "hours"),
        ("kb", "kilobyte", "kilobytes"),
        ("mb", "megabyte", "megabytes"),
        ("gb", "gigabyte", "gigabytes"),
        ("p", "penny", "pence"),
        ("°", "degree", "degrees"),
        ("°c", "degree celsius", "degrees celsius"),
        ("°f", "degree fahrenheit", "degrees fahrenheit"),
        ("%", "percent", "percent"),
        ("'", "foot", "feet"),
        ('"', "inch", "inches"),
        ("k", "thousand", "thousand"),
        ("bn", "billion", "billion"),
        ("mn", "million", "million"),
        ("tn", "trillion", "trillion"),
    )
}
MONEY: dict[str, tuple[str, str, str]] = {
    "£": ("pound", "pounds", "pence"),
    "$": ("dollar", "dollars", "cents"),
    "€": ("euro", "euros", "cents"),
    "¥": ("yen", "yen", "sen"),
}
SCALES = {"m": "million", "mn": "million", "bn": "billion", "b": "billion", "k": "thousand", "tn": "trillion"}
SCALE_WORDS = frozenset("hundred thousand million billion trillion".split())
MONTHS = frozenset(
    "january february march april may june july august september october november december"
    " jan feb mar apr jun jul aug sep sept oct nov dec".split()
)
RULERS = frozenset("chapter part book volume act scene canto section appendix war".split())
"""Words after which a Roman number is a cardinal only."""

# spellings of one word that no rule folds: each line shares a key
SPELLINGS: tuple[frozenset[str], ...] = tuple(
    frozenset(line.split())
    for line in """
tyre tire
tyres tires
kerb curb
cheque check
cheques checks
plough plow
ploughed plowed
programme program
programmes programs
storey story
storeys stories
whisky whiskey
mould mold
mouldy moldy
sceptic skeptic
sceptical skeptical
pyjamas pajamas
draught draft
draughts drafts
gaol jail
jewellery jewelry
practise practice
practised practiced
practising practicing
licence license
ageing aging
judgement judgment
acknowledgement acknowledgment
axe ax
manoeuvre maneuver
manoeuvred maneuvered
moustache mustache
woollen woolen
marvellous marvelous
skilful skillful
wilful willful
fulfil fulfill
instalment installment
enrol enroll
cosy cozy
grey gray
greyer grayer
sulphur sulfur
aeroplane airplane
anaesthetic anesthetic
encyclopaedia encyclopedia
mediaeval medieval
foetus fetus
diarrhoea diarrhea
artefact artifact
catalogue catalog
dialogue dialog
toward towards
cypher cipher
gypsy gipsy
syrup sirup
veranda verandah
yoghurt yogurt
tsar czar
mum mom
""".strip().splitlines()
)
