// Standard MIDI files: what is read gives a grid whose bars go on and come back.

#include "core/session/midi_tempo.h"
#include "fuzz/fuzz_target.h"

#include <cmath>
#include <cstdlib>

using namespace gristle::core;

namespace gristle::fuzz {

std::vector<std::string> seeds()
{
    using namespace std::string_literals;
    const std::string track = "\0\xFF\x51\3\7\xA1\x20"s
                              "\0\xFF\x58\4\3\3\x18\x08"s
                              "\x83\x60\x90\x40\x40"s
                              "\x60\x40\0"s
                              "\0\xFF\x51\3\x0A\0\0"s
                              "\0\xFF\x2F\0"s;
    std::string file = "MThd\0\0\0\6\0\1\0\1\1\xE0MTrk\0\0\0"s;
    file += char(track.size());
    return {file + track, "MThd\0\0\0\6\0\0\0\1\xE7\x28"s};
}

std::vector<std::string> words()
{
    using namespace std::string_literals;
    return {"MThd"s, "MTrk"s, "\xFF\x51\3"s, "\xFF\x58\4"s, "\xFF\x2F\0"s, "\xF0"s, "\xF7"s, "\xFF\xFF\xFF\x7F"s};
}

} // namespace gristle::fuzz

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size)
{
    const auto map = parseTempoMap({data, size}, "fuzz.mid");
    if (!map) return 0;
    const BarGrid grid(map->bpm, map->meter, map->tempos, map->meters);
    double before = grid.secondsOfBar(0.0);
    for (double bar = 0.5; bar < 20.0; bar += 0.5) {
        const double at = grid.secondsOfBar(bar);
        if (!(at > before) || std::abs(grid.barAt(at) - bar) > 1e-6) std::abort();
        before = at;
    }
    return 0;
}
