#include "core/session/session_document.h"

#include "core/session/layer_role.h"
#include "core/units/early_note.h"

#include "core/units/json_text.h"
#include "core/units/number_text.h"

#include <filesystem>
#include <set>

namespace gristle::core {

namespace {

using Json = nlohmann::ordered_json;
constexpr int kFormat = 1;
constexpr double kMostSongS = 1e6; // that a place in a song may be from its beginning

Json calibrationToJson(const Calibration& c) { return {{"full_scale_dbu", c.dbuAtFullScale}, {"assumed", c.assumed}}; }

Json playingToJson(const PlayingNotes& p)
{
    return {{"pick", p.pick}, {"cloth", p.cloth}, {"capo", p.capo}, {"strings_since", p.stringsSince}};
}

Json pieceToJson(const Piece& p)
{
    Json out = {
        {"from_s", p.fromS}, {"take", p.take}, {"later_ms", p.laterMs}, {"cents", p.cents}, {"fade_ms", p.fadeMs}};
    putBackUnknown(out, p.unknown);
    return out;
}

Json takeToJson(const Take& t)
{
    Json out = {{"file", t.file},         {"frames", t.frames},   {"sample_rate_hz", t.sampleRateHz},
                {"channels", t.channels}, {"channel", t.channel}, {"hash", t.hash},
                {"recorded", t.recorded}, {"source", t.source},   {"input", calibrationToJson(t.input)}};
    if (!t.gaps.empty()) out["gap"] = t.gaps;
    if (t.atS != 0.0) out["at_s"] = t.atS;
    if (t.isStereo) out["stereo"] = true;
    if (t.isPunch()) out["span_s"] = {t.spanFromS, t.spanToS};
    if (t.playing != PlayingNotes{}) out["playing"] = playingToJson(t.playing);
    putBackUnknown(out, t.unknown);
    return out;
}

void putSends(Json& out, const std::vector<Send>& sends)
{
    for (const Send& s : sends) {
        Json& send = out["send"].emplace_back(Json{{"to", s.to}, {"gain_db", s.gainDb}});
        putBackUnknown(send, s.unknown);
    }
}

Json busToJson(const Bus& b)
{
    Json out = {{"name", b.name}, {"rig", b.rig}, {"gain_db", b.gainDb}, {"into", b.into}};
    putSends(out, b.sends);
    putBackUnknown(out, b.unknown);
    return out;
}

Json layerToJson(const Layer& l)
{
    Json out = {{"name", l.name},     {"place", l.place}, {"gain_db", l.gainDb}, {"guitar", l.guitar},
                {"pickup", l.pickup}, {"rig", l.rig},     {"chosen", l.chosen}};
    if (l.earlierMs != 0.0) out["earlier_ms"] = l.earlierMs;
    if (l.isInverted) out["inverted"] = true;
    if (l.role != LayerRole::Di) out["role"] = nameOf(l.role);
    if (!l.source.empty()) out["source"] = l.source;
    if (!l.bus.empty()) out["bus"] = l.bus;
    putSends(out, l.sends);
    out["take"] = Json::array();
    for (const Take& t : l.takes) out["take"].push_back(takeToJson(t));
    for (const Piece& p : l.pieces) out["piece"].push_back(pieceToJson(p));
    if (!l.keptPair.empty()) out["kept_pair"] = l.keptPair;
    putBackUnknown(out, l.unknown);
    return out;
}

Json cabToJson(const CabPlan& c)
{
    Json out = {{"cabinet", c.cabinet},
                {"room",
                 {{"floor_m", c.room.floorM},
                  {"wall_m", c.room.wallM},
                  {"volume_m3", c.room.volumeM3},
                  {"reverberation_s", c.room.reverberationS}}},
                {"watts", c.watts},
                {"spill_m", c.spillM},
                {"microphone", Json::array()}};
    for (const PlacedMicrophone& m : c.microphones) {
        Json microphone = {{"kind", m.kind},
                           {"distance_m", m.place.distanceM},
                           {"offset_m", m.place.offsetM},
                           {"angle", m.place.angleDeg},
                           {"inverted", m.invert},
                           {"gain_db", m.gainDb},
                           {"delay_ms", m.delayMs}};
        putBackUnknown(microphone, m.unknown);
        out["microphone"].push_back(std::move(microphone));
    }
    return out;
}

/// Reads fields and remembers the first thing that was wrong, so that the readers below stay plain lists.
class Fields {
public:
    Fields(const Json& json, std::string where, std::optional<Error>& failure)
        : json_(json), where_(std::move(where)), failure_(failure)
    {
        if (!json_.is_object()) fail("is no object");
    }
    void text(const char* key, std::string& into)
    {
        if (const Json* v = find(key)) v->is_string() ? void(into = v->get<std::string>()) : fail(key, "is no text");
    }
    void number(const char* key, double& into, double min, double max)
    {
        const Json* v = find(key);
        if (!v) return;
        if (!v->is_number()) return fail(key, "is no number");
        into = v->get<double>();
        if (!(into >= min && into <= max))
            failOnce({ErrorCode::OutOfRange, where_ + "." + key + ": it is outside its range",
                      "take a number from " + numberText(min) + " to " + numberText(max)});
    }
    template<typename Int> void whole(const char* key, Int& into, std::int64_t max)
    {
        const Json* v = find(key);
        if (!v) return;
        if (!v->is_number_integer() || v->get<std::int64_t>() < 0 || v->get<std::int64_t>() > max)
            return fail(key, "is no whole number in range");
        into = static_cast<Int>(v->get<std::int64_t>());
    }
    void flag(const char* key, bool& into)
    {
        if (const Json* v = find(key)) v->is_boolean() ? void(into = v->get<bool>()) : fail(key, "is no yes or no");
    }
    void file(const char* key, std::string& into)
    {
        text(key, into);
        if (!into.empty() && !staysInside(into)) fail(key, "leaves the session's folder (" + into + ")");
    }
    template<typename T, typename Read> void list(const char* key, std::vector<T>& into, Read read)
    {
        const Json* v = find(key);
        if (!v) return;
        if (!v->is_array()) return fail(key, "is no list");
        std::size_t index = 0;
        for (const Json& entry : *v) {
            if (failure_) return;
            into.push_back(read(entry, where_ + "." + key + "[" + std::to_string(index++) + "]", failure_));
        }
    }
    const Json* find(const char* key)
    {
        known_.insert(key);
        if (failure_ || !json_.is_object()) return nullptr;
        const auto at = json_.find(key);
        return at == json_.end() ? nullptr : &*at;
    }
    void fail(const std::string& what)
    {
        failOnce({ErrorCode::BadDocument, where_ + " " + what, "mend the file or go back to a copy"});
    }
    void fail(const char* key, const std::string& what) { fail(std::string(".") + key + " " + what); }
    /// The fields of the object `key`, read by `read`.
    template<typename Read> void object(const char* key, Read read)
    {
        const Json* v = find(key);
        if (!v) return;
        Fields inside(*v, where_ + "." + key, failure_);
        read(inside);
        if (const Json rest = inside.unknown(); !rest.empty()) nested_[key] = rest;
    }
    /// What nobody asked for, as text; empty where there is none. Ask at the end.
    std::string unknownText() const
    {
        const Json rest = unknown();
        return rest.empty() ? std::string() : jsonText(rest);
    }

private:
    Json unknown() const
    {
        Json rest = nested_;
        if (json_.is_object())
            for (const auto& [key, value] : json_.items())
                if (!known_.contains(key)) rest[key] = value;
        return rest;
    }
    std::set<std::string> known_;
    Json nested_ = Json::object();
    void failOnce(Error error)
    {
        if (!failure_) failure_ = std::move(error);
    }
    const Json& json_;
    std::string where_;
    std::optional<Error>& failure_;
};

void readCalibration(Fields& parent, const char* key, Calibration& c)
{
    parent.object(key, [&](Fields& fields) {
        fields.number("full_scale_dbu", c.dbuAtFullScale, -40.0, 60.0);
        fields.flag("assumed", c.assumed);
    });
}

void readCab(Fields& fields, CabPlan& c, std::optional<Error>& failure)
{
    fields.text("cabinet", c.cabinet);
    fields.object("room", [&](Fields& r) {
        r.number("floor_m", c.room.floorM, 0.0, 100.0);
        r.number("wall_m", c.room.wallM, 0.0, 100.0);
        r.number("volume_m3", c.room.volumeM3, 5.0, 5000.0);
        r.number("reverberation_s", c.room.reverberationS, 0.0, 10.0);
    });
    fields.number("watts", c.watts, 0.001, 1000.0);
    fields.number("spill_m", c.spillM, 0.0, 20.0);
    c.microphones.clear();
    fields.list("microphone", c.microphones, [](const Json& v, const std::string& at, std::optional<Error>& bad) {
        PlacedMicrophone m;
        Fields f(v, at, bad);
        f.text("kind", m.kind);
        f.number("distance_m", m.place.distanceM, -4.0, 4.0);
        f.number("offset_m", m.place.offsetM, -2.0, 2.0);
        f.number("angle", m.place.angleDeg, -90.0, 90.0);
        f.flag("inverted", m.invert);
        f.number("gain_db", m.gainDb, -40.0, 40.0);
        f.number("delay_ms", m.delayMs, 0.0, 100.0);
        m.unknown = f.unknownText();
        if (const auto good = checkPlaced(m); !bad && !good)
            bad = Error{ErrorCode::OutOfRange, at + ": " + good.error().message, good.error().remedy};
        return m;
    });
    if (c.microphones.empty()) c.microphones.emplace_back();
    if (const auto known = cabinetOf(c.cabinet); !failure && !known)
        failure = Error{ErrorCode::OutOfRange, "session.json.cab: " + known.error().message, known.error().remedy};
}

void readPlaying(Fields& parent, PlayingNotes& p)
{
    parent.object("playing", [&](Fields& fields) {
        fields.text("pick", p.pick);
        fields.text("cloth", p.cloth);
        fields.whole("capo", p.capo, 24);
        fields.text("strings_since", p.stringsSince);
    });
}

Piece readPiece(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Piece p;
    Fields fields(json, where, failure);
    fields.number("from_s", p.fromS, -kMostSongS, kMostSongS);
    fields.whole("take", p.take, 1 << 20);
    fields.number("later_ms", p.laterMs, -1000.0, 1000.0);
    fields.number("cents", p.cents, -50.0, 50.0);
    fields.number("fade_ms", p.fadeMs, 0.0, 1000.0);
    p.unknown = fields.unknownText();
    return p;
}

Take readTake(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Take t;
    Fields fields(json, where, failure);
    fields.file("file", t.file);
    fields.whole("frames", t.frames, std::int64_t{1} << 50);
    fields.whole("sample_rate_hz", t.sampleRateHz, 192000);
    fields.whole("channels", t.channels, 64);
    fields.whole("channel", t.channel, 64);
    fields.text("hash", t.hash);
    fields.text("recorded", t.recorded);
    fields.text("source", t.source);
    readCalibration(fields, "input", t.input);
    fields.list("gap", t.gaps, [](const Json& v, const std::string& at, std::optional<Error>& bad) {
        if (v.is_number_integer() && v.get<std::int64_t>() >= 0) return v.get<std::int64_t>();
        if (!bad) bad = Error{ErrorCode::BadDocument, at + " is no frame", "mend the file or go back to a copy"};
        return std::int64_t{0};
    });
    fields.number("at_s", t.atS, -kMostSongS, kMostSongS);
    fields.flag("stereo", t.isStereo);
    if (t.isStereo && t.channels < 2) fields.fail("stereo", "is set for a file of one channel");
    if (const Json* span = fields.find("span_s")) {
        if (span->is_array() && span->size() == 2 && (*span)[0].is_number() && (*span)[1].is_number())
            t.spanFromS = (*span)[0].get<double>(), t.spanToS = (*span)[1].get<double>();
        else
            fields.fail("span_s", "is no pair of seconds");
    }
    readPlaying(fields, t.playing);
    t.unknown = fields.unknownText();
    return t;
}

Send readSend(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Send s;
    Fields fields(json, where, failure);
    fields.text("to", s.to);
    fields.number("gain_db", s.gainDb, -60.0, 60.0);
    s.unknown = fields.unknownText();
    return s;
}

Bus readBus(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Bus b;
    Fields fields(json, where, failure);
    fields.text("name", b.name);
    if (b.name.empty()) fields.fail("name", "is missing");
    fields.file("rig", b.rig);
    fields.number("gain_db", b.gainDb, -60.0, 60.0);
    fields.text("into", b.into);
    fields.list("send", b.sends, readSend);
    b.unknown = fields.unknownText();
    return b;
}

Section readSection(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Section s;
    Fields fields(json, where, failure);
    fields.text("name", s.name);
    fields.number("quarter", s.quarter, 0.0, kMostSongS);
    s.unknown = fields.unknownText();
    return s;
}

LayerRole readRole(Fields& fields)
{
    std::string name = nameOf(LayerRole::Di);
    fields.text("role", name);
    const auto role = parseRole(name);
    if (!role) fields.fail("role", "is no role that this version knows (" + name + ")");
    return role.value_or(LayerRole::Di);
}

Layer readLayer(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Layer l;
    Fields fields(json, where, failure);
    fields.text("name", l.name);
    fields.number("place", l.place, -100.0, 100.0);
    fields.number("gain_db", l.gainDb, -60.0, 60.0);
    fields.number("earlier_ms", l.earlierMs, -1000.0, 1000.0);
    fields.flag("inverted", l.isInverted);
    l.role = readRole(fields);
    fields.text("source", l.source);
    fields.text("bus", l.bus);
    fields.list("send", l.sends, readSend);
    fields.text("guitar", l.guitar);
    fields.text("pickup", l.pickup);
    fields.file("rig", l.rig);
    fields.whole("chosen", l.chosen, 1 << 20);
    fields.list("take", l.takes, readTake);
    fields.list("piece", l.pieces, readPiece);
    fields.text("kept_pair", l.keptPair);
    l.unknown = fields.unknownText();
    return l;
}

DoubleStyle readDoubleStyle(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    DoubleStyle s;
    Fields fields(json, where, failure);
    fields.text("name", s.name);
    fields.number("one_ms", s.limits.oneMs, 0.1, 50.0);
    fields.number("width_ms", s.limits.widthMs, 1.0, 100.0);
    fields.number("loose_ms", s.limits.looseMs, 2.0, 200.0);
    if (!s.limits.areInOrder()) fields.fail("one_ms", "width_ms and loose_ms do not grow in this order");
    s.unknown = fields.unknownText();
    return s;
}

Part readPart(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Part p;
    Fields fields(json, where, failure);
    fields.text("name", p.name);
    readPlaying(fields, p.playing);
    fields.text("double_style", p.doubleStyle);
    fields.list("layer", p.layers, readLayer);
    p.unknown = fields.unknownText();
    return p;
}

Song readSong(const Json& json, const std::string& where, std::optional<Error>& failure)
{
    Song s;
    Fields fields(json, where, failure);
    fields.text("name", s.name);
    fields.number("tempo_bpm", s.tempoBpm, 20.0, 400.0);
    fields.text("meter", s.meter);
    fields.text("tuning", s.tuning);
    fields.number("reference_hz", s.referenceHz, 400.0, 480.0);
    fields.list("tempo", s.tempos, [](const Json& v, const std::string& at, std::optional<Error>& bad) {
        TempoChange t;
        Fields f(v, at, bad);
        f.number("quarter", t.quarter, 0.0, kMostSongS);
        f.number("bpm", t.bpm, 20.0, 400.0);
        t.unknown = f.unknownText();
        return t;
    });
    fields.list("meter_change", s.meters, [](const Json& v, const std::string& at, std::optional<Error>& bad) {
        MeterChange m;
        Fields f(v, at, bad);
        f.whole("bar", m.bar, 1 << 20);
        f.text("meter", m.meter);
        m.unknown = f.unknownText();
        return m;
    });
    fields.list("part", s.parts, readPart);
    fields.list("section", s.sections, readSection);
    fields.list("bus", s.buses, readBus);
    fields.file("rig", s.rig);
    fields.number("gain_db", s.gainDb, -60.0, 60.0);
    fields.number("stamp_s", s.stampS, 0.0, kMostSongS);
    s.unknown = fields.unknownText();
    return s;
}

} // namespace

std::vector<Piece> heardPieces(const Layer& layer)
{
    if (!layer.pieces.empty()) return layer.pieces;
    const Take* take = layer.chosenTake();
    if (!take || !take->isPunch()) return {};
    return {{std::max(take->atS, take->spanFromS - kEarlyNoteS), layer.chosen, 0.0, 0.0, 10.0}};
}

const Layer* findLayer(const SessionDocument& d, const LayerPath& p)
{
    if (p.song >= d.songs.size() || p.part >= d.songs[p.song].parts.size()) return nullptr;
    const auto& layers = d.songs[p.song].parts[p.part].layers;
    return p.layer < layers.size() ? &layers[p.layer] : nullptr;
}

Layer* findLayer(SessionDocument& d, const LayerPath& p) { return const_cast<Layer*>(findLayer(std::as_const(d), p)); }

std::vector<LayerPath> allLayers(const SessionDocument& d)
{
    std::vector<LayerPath> out;
    for (std::size_t s = 0; s < d.songs.size(); ++s)
        for (std::size_t p = 0; p < d.songs[s].parts.size(); ++p)
            for (std::size_t l = 0; l < d.songs[s].parts[p].layers.size(); ++l) out.push_back({s, p, l});
    return out;
}

std::vector<std::string> allRigs(const SessionDocument& d)
{
    std::set<std::string> out;
    for (const Song& song : d.songs) {
        out.insert(song.rig);
        for (const Bus& bus : song.buses) out.insert(bus.rig);
        for (const Part& part : song.parts)
            for (const Layer& layer : part.layers) out.insert(layer.rig);
    }
    out.erase("");
    return {out.begin(), out.end()};
}

bool staysInside(const std::string& relative)
{
    const std::filesystem::path path(relative);
    if (relative.empty() || path.is_absolute()) return false;
    for (const auto& part : path)
        if (part == "..") return false;
    return true;
}

Json songToJson(const Song& s)
{
    Json song = {{"name", s.name}, {"tempo_bpm", s.tempoBpm}, {"meter", s.meter}, {"tuning", s.tuning}};
    if (s.referenceHz != 440.0) song["reference_hz"] = s.referenceHz;
    for (const TempoChange& t : s.tempos) {
        Json& tempo = song["tempo"].emplace_back(Json{{"quarter", t.quarter}, {"bpm", t.bpm}});
        putBackUnknown(tempo, t.unknown);
    }
    for (const MeterChange& m : s.meters) {
        Json& meter = song["meter_change"].emplace_back(Json{{"bar", m.bar}, {"meter", m.meter}});
        putBackUnknown(meter, m.unknown);
    }
    for (const Section& one : s.sections) {
        Json& section = song["section"].emplace_back(Json{{"name", one.name}, {"quarter", one.quarter}});
        putBackUnknown(section, one.unknown);
    }
    for (const Bus& bus : s.buses) song["bus"].push_back(busToJson(bus));
    if (!s.rig.empty()) song["rig"] = s.rig;
    if (s.gainDb != 0.0) song["gain_db"] = s.gainDb;
    if (s.stampS != 0.0) song["stamp_s"] = s.stampS;
    song["part"] = Json::array();
    for (const Part& p : s.parts) {
        Json part = {{"name", p.name}};
        if (p.playing != PlayingNotes{}) part["playing"] = playingToJson(p.playing);
        if (!p.doubleStyle.empty()) part["double_style"] = p.doubleStyle;
        part["layer"] = Json::array();
        for (const Layer& l : p.layers) part["layer"].push_back(layerToJson(l));
        putBackUnknown(part, p.unknown);
        song["part"].push_back(std::move(part));
    }
    putBackUnknown(song, s.unknown);
    return song;
}

Json sessionHeadToJson(const SessionDocument& d)
{
    Json styles = Json::array();
    for (const DoubleStyle& style : d.doubleStyles) {
        const DoubleLimits& l = style.limits;
        Json entry = {{"name", style.name}, {"one_ms", l.oneMs}, {"width_ms", l.widthMs}, {"loose_ms", l.looseMs}};
        putBackUnknown(entry, style.unknown);
        styles.push_back(std::move(entry));
    }
    Json out = {{"gristle_session", kFormat},
                {"name", d.name},
                {"sample_rate_hz", d.sampleRateHz},
                {"reference_dbfs", d.referenceDbfs},
                {"target_school", d.targetSchool},
                {"place_law", panLawText(d.law)},
                {"double_style", styles},
                {"interface", calibrationToJson(d.interface)},
                {"reamp", {{"output", calibrationToJson(d.reamp.output)}, {"box_db", d.reamp.boxDb}}},
                {"loading", d.loadings},
                {"cab", cabToJson(d.cab)}};
    putBackUnknown(out, d.unknown);
    return out;
}

Json sessionToJson(const SessionDocument& d)
{
    Json out = sessionHeadToJson(d);
    out["song"] = Json::array();
    for (const Song& s : d.songs) out["song"].push_back(songToJson(s));
    return out;
}

Result<SessionDocument> sessionFromJson(const Json& json)
{
    if (!json.is_object() || !json.contains("gristle_session") || !json["gristle_session"].is_number())
        return Error{ErrorCode::BadDocument, "session.json: this is no session",
                     "choose a folder that holds a session"};
    if (isNewerFormat(json["gristle_session"], kFormat))
        return Error{ErrorCode::NewerVersion, "session.json: it was written by a later version of Gristle",
                     "update Gristle to open it, nothing was changed"};
    std::optional<Error> failure;
    SessionDocument d;
    Fields fields(json, "session.json", failure);
    std::string law = "3";
    fields.text("name", d.name);
    fields.whole("sample_rate_hz", d.sampleRateHz, 192000);
    fields.number("reference_dbfs", d.referenceDbfs, -60.0, 0.0);
    fields.text("target_school", d.targetSchool);
    fields.text("place_law", law);
    if (fields.find("double_style")) {
        d.doubleStyles.clear();
        fields.list("double_style", d.doubleStyles, readDoubleStyle);
        if (d.doubleStyles.empty()) d.doubleStyles = usualDoubleStyles();
    }
    readCalibration(fields, "interface", d.interface);
    fields.object("reamp", [&](Fields& path) {
        readCalibration(path, "output", d.reamp.output);
        path.number("box_db", d.reamp.boxDb, -60.0, 60.0);
    });
    fields.list("loading", d.loadings, [](const Json& v, const std::string& at, std::optional<Error>& bad) {
        if (v.is_string()) return v.get<std::string>();
        if (!bad) bad = Error{ErrorCode::BadDocument, at + " is no text", "mend the file or go back to a copy"};
        return std::string();
    });
    fields.object("cab", [&](Fields& cab) { readCab(cab, d.cab, failure); });
    fields.list("song", d.songs, readSong);
    if (failure) return *failure;
    for (const char* own : {"gristle_session", "edit"}) (void)fields.find(own);
    d.unknown = fields.unknownText();
    const auto parsed = parsePanLaw(law);
    if (!parsed || (d.targetSchool != "average" && d.targetSchool != "peak"))
        return Error{ErrorCode::OutOfRange, "session.json: place_law or target_school is not known", "mend the file"};
    d.law = *parsed;
    for (const LayerPath& path : allLayers(d)) {
        Layer* layer = findLayer(d, path);
        if (!layer->takes.empty() && layer->chosen >= layer->takes.size())
            return Error{ErrorCode::OutOfRange,
                         "session.json: layer \"" + layer->name + "\" chooses a take that is not there",
                         "mend the file"};
        for (const Piece& piece : layer->pieces)
            if (piece.take >= layer->takes.size())
                return Error{ErrorCode::OutOfRange,
                             "session.json: a piece of layer \"" + layer->name + "\" is of a take that is not there",
                             "mend the file"};
    }
    return d;
}

} // namespace gristle::core
