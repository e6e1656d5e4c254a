#include "core/rig/starting_points.h"

#include <algorithm>

namespace gristle::core {

const std::vector<StartingPoint>& startingPoints()
{
    static const std::vector<StartingPoint> all = {
        {"glassy rhythm",
         "every string of a chord by itself; a pluck that is bright and never hard",
         {{{"compressor", "blend", "how even: less of it keeps the hand's own accents"},
           {"circuit", "treble", "the glass; past 8 it turns to wire"},
           {"circuit", "drive", "headroom: the loudest chord just stays clean"}}},
         "compressor threshold=-22 ratio=3 attack=18 release=220 gain=5 blend=0.7 | "
         "circuit voice=clean drive=3 bass=4 middle=4 treble=7 master=4 presence=6 | impulse level=matched | "
         "eq low_cut=90 | reverb kind=plate decay=1.1 mix=0.12 | gain db=3.6"},
        {"edge of break-up, with a spring",
         "soft playing is clean, digging in growls; the spring answers in the gaps",
         {{{"circuit", "drive", "where it begins to growl; then use the guitar's volume"},
           {"circuit", "sag", "how much a hard chord leans back"},
           {"spring", "mix", "heard in the rests, not under the notes"}}},
         "circuit voice=clean drive=7 bass=5 middle=6 treble=5 master=6 sag=5 | spring decay=1.7 mix=0.16 | "
         "impulse level=matched | eq low_cut=80 | gain db=-11.4"},
        {"plain crunch",
         "power chords that bite and still tell major from minor",
         {{{"boost", "gain", "push of the front: more bite, not more mud"},
           {"circuit", "master", "how hard the power stage works: thicker, then softer"},
           {"circuit", "middle", "where it sits against bass and voice"}}},
         "boost gain=9 tight=120 | circuit voice=clean drive=8 bass=4 middle=7 treble=6 master=7 presence=5 | "
         "impulse level=matched | eq low_cut=80 | gain db=-14"},
        {"tight heavy rhythm",
         "muted notes that stop when the hand stops; a low end that is felt and does not bloom",
         {{{"softclip", "level", "pushes the cascade; its own drive stays low"},
           {"circuit", "drive", "take it back until the pick is heard again"},
           {"gate", "threshold", "closes between the notes and lets the softest one through"}}},
         "gate threshold=-52 hold=30 release=60 | softclip drive=1 hump=720 tone=6000 level=8 | "
         "circuit voice=tight drive=5 bass=5 middle=5 treble=6 master=7 presence=6 depth=5 | impulse level=matched | "
         "eq low_cut=85 low_slope=18 hz3=4200 db3=-2 q3=2 | gain db=-13.1"},
        {"clean chorus",
         "held chords that move without swimming; the middle stays in tune",
         {{{"chorus", "mix", "how much of it moves"},
           {"chorus", "rate", "slower is wider"},
           {"compressor", "gain", "how long a chord is held up"}}},
         "compressor threshold=-24 ratio=4 attack=7 release=260 gain=7 blend=0.85 | "
         "circuit voice=clean drive=2.5 bass=4 middle=5 treble=6 master=4 | impulse level=matched | "
         "eq low_cut=100 | chorus rate=0.45 depth=2 delay=9 mix=0.45 | gain db=9.2"},
        {"singing lead, quiet echoes",
         "a note that holds as long as the finger; echoes that come forward when you pause",
         {{{"circuit", "drive", "sustain; past 7 it only hisses more"},
           {"delay", "duck", "how far the echoes step back while you play"},
           {"delay", "high_cut", "keeps the echoes behind the note"}}},
         "boost gain=8 tight=60 | circuit voice=tight drive=6 bass=5 middle=7 treble=5 master=7.5 presence=4 depth=5 | "
         "impulse level=matched | eq low_cut=90 high_cut=7500 | delay sides=two time=1/4 other=1/8d feedback=0.32 "
         "mix=0.16 low_cut=160 high_cut=3200 duck=9 | reverb kind=hall decay=2 pre=30 mix=0.1 | gain db=-10.5"},
        {"fuzz into a clean amplifier",
         "one wall of a chord, and it cleans up when the guitar's volume goes back",
         {{{"fuzz", "sustain", "length of a note; more of it cleans up less"},
           {"fuzz", "tone", "the hollow: to the left thick, to the right sharp"},
           {"circuit", "drive", "how much of the wall the amplifier rounds off"}}},
         "fuzz sustain=2.5 stages=one tone=3 level=-8 | circuit voice=clean drive=3.5 bass=5 middle=6 treble=5 "
         "master=5 | "
         "impulse level=matched | eq low_cut=80 | gain db=-4.1"},
        {"intimate clean, two spaces",
         "close enough to hear the fingers, with something large far behind",
         {{{"compressor", "threshold", "how close: lower brings the fingers up"},
           {"reverb", "mix", "the near space: walls that one could touch"},
           {"circuit", "treble", "breath without string noise"}}},
         "compressor threshold=-28 ratio=2.5 attack=25 release=300 gain=5 blend=0.8 | "
         "circuit voice=clean drive=2 bass=5 middle=5 treble=5 master=4 presence=3 | impulse level=matched | "
         "{ reverb kind=room decay=0.5 pre=4 mix=0.22 ; gain db=-15 | reverb kind=hall decay=3 pre=70 low_cut=250 "
         "high_cut=4500 mix=1 } | gain db=11.2"},
    };
    return all;
}

const StartingPoint* findStartingPoint(const std::string& title)
{
    const auto at = std::ranges::find(startingPoints(), title, &StartingPoint::title);
    return at == startingPoints().end() ? nullptr : &*at;
}

RigDocument rigOf(const StartingPoint& point, const std::string& impulse, double tempoBpm)
{
    RigDocument out;
    out.name = point.title;
    out.chain = parseRecallLine(point.line).value();
    if (impulse.empty()) std::erase_if(out.chain, [](const RigNode& n) { return n.type == "impulse"; });
    for (RigNode& node : out.chain) {
        if (node.type == "impulse") node.values["file"] = impulse;
        if (node.type == "delay") node.values["tempo"] = std::clamp(tempoBpm, 20.0, 400.0);
    }
    return out;
}

} // namespace gristle::core
