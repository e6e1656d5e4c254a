#include "core/session/midi_tempo.h"

#include "core/audio/file_place.h"
#include "core/units/text.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace gristle::core {

namespace {

constexpr std::size_t kMostBytes = 64u << 20;
constexpr double kLeastBpm = 20.0, kMostBpm = 400.0, kMostQuarters = 1e6; // a song has fewer

/// Reads big-endian numbers and remembers where something was missing.
class Bytes {
public:
    explicit Bytes(std::span<const unsigned char> bytes) : bytes_(bytes) {}
    bool isOver() const { return at_ >= bytes_.size(); }
    bool isBroken() const { return isBroken_; }
    unsigned byte()
    {
        if (at_ >= bytes_.size()) return isBroken_ = true, 0u;
        return bytes_[at_++];
    }
    unsigned number(int count)
    {
        unsigned out = 0;
        for (int i = 0; i < count; ++i) out = out << 8 | byte();
        return out;
    }
    unsigned variable() ///< of seven bits each, four at most
    {
        unsigned out = 0;
        for (int i = 0; i < 4; ++i) {
            const unsigned b = byte();
            out = out << 7 | (b & 0x7F);
            if (!(b & 0x80)) return out;
        }
        isBroken_ = true;
        return out;
    }
    std::span<const unsigned char> take(std::size_t count)
    {
        if (count > bytes_.size() - at_) isBroken_ = true, count = bytes_.size() - at_;
        const auto out = bytes_.subspan(at_, count);
        at_ += count;
        return out;
    }

private:
    std::span<const unsigned char> bytes_;
    std::size_t at_ = 0;
    bool isBroken_ = false;
};

struct Signature {
    double quarter;
    std::string meter;
};

/// The events of one track that say something about time; false where it breaks off.
bool readTrack(std::span<const unsigned char> chunk, double ticksPerQuarter, std::vector<TempoChange>& tempos,
               std::vector<Signature>& signatures, std::vector<TempoMap::Marker>& markers)
{
    Bytes in(chunk);
    std::uint64_t tick = 0;
    unsigned status = 0;
    while (!in.isOver() && !in.isBroken()) {
        tick += in.variable();
        const double quarter = double(tick) / ticksPerQuarter;
        unsigned first = in.byte();
        std::optional<unsigned> data;
        if (first & 0x80)
            status = first;
        else
            data = first; // running status
        if (status == 0xFF) {
            const unsigned kind = in.byte();
            const auto body = in.take(in.variable());
            if (kind == 0x2F) return !in.isBroken();
            if (kind == 0x51 && body.size() == 3) {
                const unsigned micros = unsigned(body[0]) << 16 | unsigned(body[1]) << 8 | body[2];
                tempos.push_back({quarter, micros > 0 ? 6e7 / micros : 0.0});
            }
            if (kind == 0x06 && !body.empty() && quarter <= kMostQuarters)
                markers.push_back({quarter, validText(std::string(body.begin(), body.end()))});
            if (kind == 0x58 && body.size() >= 2 && body[0] > 0 && body[1] < 7)
                signatures.push_back({quarter, std::to_string(body[0]) + "/" + std::to_string(1 << body[1])});
            status = 0;
        } else if (status == 0xF0 || status == 0xF7) {
            in.take(in.variable());
            status = 0;
        } else if (status >= 0x80 && status < 0xF0) {
            const bool isShort = (status & 0xF0) == 0xC0 || (status & 0xF0) == 0xD0;
            if (!data) in.byte();
            if (!isShort) in.byte();
        } else {
            return false;
        }
    }
    return !in.isBroken();
}

} // namespace

Result<TempoMap> parseTempoMap(std::span<const unsigned char> bytes, const std::string& name)
{
    const auto bad = [&](ErrorCode code, const char* why, const char* remedy) {
        return Error{code, name + ": " + why, remedy};
    };
    Bytes in(bytes);
    if (in.number(4) != 0x4D546864 || in.number(4) < 6)
        return bad(ErrorCode::BadDocument, "this is no standard MIDI file",
                   "export one from where the song was written");
    in.number(2); // whether tracks play together or one after the other: time is in any of them
    const unsigned tracks = in.number(2), division = in.number(2);
    if (division & 0x8000)
        return bad(ErrorCode::Unsupported, "its time is in seconds, not in notes", "export it with time in notes");
    if (division == 0 || in.isBroken())
        return bad(ErrorCode::BadDocument, "its header is broken", "export it once more");
    std::vector<TempoChange> tempos;
    std::vector<Signature> signatures;
    std::vector<TempoMap::Marker> markers;
    for (unsigned t = 0; t < tracks && !in.isOver(); ++t) {
        const unsigned kind = in.number(4);
        const auto chunk = in.take(in.number(4));
        if (kind != 0x4D54726B) continue; // of a kind that is not ours to know
        if (!readTrack(chunk, double(division), tempos, signatures, markers) || in.isBroken())
            return bad(ErrorCode::BadDocument, "it breaks off within a track", "export it once more");
    }
    std::ranges::stable_sort(tempos, {}, &TempoChange::quarter);
    std::ranges::stable_sort(signatures, {}, &Signature::quarter);
    TempoMap out;
    std::ranges::stable_sort(markers, {}, &TempoMap::Marker::quarter);
    for (TempoMap::Marker& m : markers) {
        if (!out.markers.empty() && out.markers.back().quarter == m.quarter) out.markers.pop_back();
        out.markers.push_back(std::move(m));
    }
    for (const TempoChange& t : tempos) {
        if (t.quarter > kMostQuarters) break;
        if (!(t.bpm >= kLeastBpm && t.bpm <= kMostBpm))
            return bad(ErrorCode::OutOfRange, "a tempo in it is not within 20 to 400",
                       "mend it where the song was written");
        if (t.quarter <= 0.0)
            out.bpm = t.bpm;
        else if (!out.tempos.empty() && out.tempos.back().quarter == t.quarter)
            out.tempos.back() = t;
        else
            out.tempos.push_back(t);
    }
    // A meter begins with a bar: the one that is nearest.
    double bar = 1.0, quarter = 0.0, quarters = quartersOfMeter(out.meter);
    for (const Signature& s : signatures) {
        if (s.quarter > kMostQuarters) break;
        const double at = bar + std::round((s.quarter - quarter) / quarters);
        if (s.quarter <= 0.0)
            out.meter = s.meter;
        else if (!out.meters.empty() && out.meters.back().bar == int(at))
            out.meters.back().meter = s.meter;
        else
            out.meters.push_back({int(at), s.meter});
        quarter += (at - bar) * quarters;
        bar = at, quarters = quartersOfMeter(s.meter);
    }
    return out;
}

Result<TempoMap> readTempoMap(const std::filesystem::path& file)
{
    const auto text = readText(file, kMostBytes);
    if (!text) return text.error();
    const auto* data = reinterpret_cast<const unsigned char*>(text->data());
    return parseTempoMap({data, text->size()}, file.filename().string());
}

} // namespace gristle::core
