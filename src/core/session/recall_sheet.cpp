#include "core/session/recall_sheet.h"

#include "core/session/layer_role.h"
#include "core/units/number_text.h"

#include <cmath>
#include <fmt/format.h>
#include <set>

namespace gristle::core {

namespace {

std::string escaped(const std::string& text)
{
    std::string out;
    for (const char c : text) {
        switch (c) {
        case '&': out += "&amp;"; break;
        case '<': out += "&lt;"; break;
        case '>': out += "&gt;"; break;
        case '"': out += "&quot;"; break;
        default: out += c;
        }
    }
    return out;
}

std::string cell(const std::string& text) { return "<td>" + (text.empty() ? "\u2013" : escaped(text)) + "</td>"; }

/// "2026-10-03T19:42:10" to the minute, as people write it.
std::string timeText(std::string time)
{
    std::ranges::replace(time, 'T', ' ');
    return time.substr(0, 16);
}

/// A file's name without folder and, for rigs, without ".json".
std::string shortName(const std::string& file)
{
    const std::filesystem::path path(file);
    return (path.extension() == ".json" ? path.stem() : path.filename()).string();
}

std::string placeText(double place)
{
    if (place == 0.0) return "centre";
    return numberText(std::abs(place)) + (place < 0.0 ? " left" : " right");
}

void appendChain(const RigChain& chain, std::string& html, int depth)
{
    for (const RigNode& node : chain) {
        const std::string indent(static_cast<std::size_t>(depth) * 2, ' ');
        if (node.isSplit()) {
            for (std::size_t i = 0; i < node.lanes.size(); ++i) {
                html += "<tr><td colspan=3>" + indent + "lane " + std::to_string(i + 1) + "</td></tr>";
                appendChain(node.lanes[i], html, depth + 1);
            }
            continue;
        }
        const NodeType* type = findNodeType(node.type);
        const std::string title = (type ? type->title : node.type) + (node.bypass ? " (bypassed)" : "");
        bool first = true;
        if (!type || type->parameters.empty()) html += "<tr><td>" + escaped(title) + "</td><td></td><td></td></tr>";
        if (!type) continue;
        const auto values = completeValues(*type, node.values);
        for (const ParameterSpec& spec : type->parameters) {
            html += "<tr><td>" + (first ? escaped(title) : "") + "</td><td>" + escaped(spec.label) +
                    "</td><td class=n>" + escaped(valueText(values.at(spec.key))) + " " + escaped(spec.unit) +
                    "</td></tr>";
            first = false;
        }
    }
}

constexpr const char* kHead =
    R"(<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Recall sheet</title><style>
body{font:14px/1.45 Inter,system-ui,sans-serif;color:#23262B;background:#F5F1E8;margin:2.5em auto;max-width:60em;padding:0 1.5em}
h1{font-size:22px;margin:0}h2{font-size:17px;margin:1.8em 0 .3em;border-bottom:1px solid #D3CBBB}h3{font-size:14px;margin:1.2em 0 .3em}
p{margin:.3em 0;color:#5C5F66}table{border-collapse:collapse;width:100%;margin:.3em 0 1em}
td,th{text-align:left;padding:3px 10px 3px 0;border-bottom:1px solid #D3CBBB;vertical-align:top}th{font-weight:600;color:#5C5F66}
td.n{font-family:"JetBrains Mono",monospace}pre{font:12px "JetBrains Mono",monospace;white-space:pre-wrap}
@media print{body{background:#fff;margin:0}h2{break-after:avoid}table{break-inside:avoid}}</style></head><body>)";

/// What it takes to meet the other microphones: ", 0.61 ms earlier, inverted"; nothing where it is as recorded.
std::string movedText(const Layer& layer)
{
    std::string out;
    if (layer.earlierMs != 0.0)
        out += fmt::format(", {:.2f} ms {}", std::abs(layer.earlierMs), layer.earlierMs > 0.0 ? "earlier" : "later");
    return out + (layer.isInverted ? ", inverted" : "");
}

/// The take that counts, what it is joined of, and how it was played.
std::string takeText(const Layer& layer)
{
    const Take* take = layer.chosenTake();
    if (!take) return {};
    std::string out = shortName(take->file);
    if (layer.pieces.size() > 1) {
        std::set<std::size_t> takes;
        bool isMoved = false;
        for (const Piece& p : layer.pieces) takes.insert(p.take), isMoved |= p.laterMs != 0.0 || p.cents != 0.0;
        out += ", joined of " + std::to_string(layer.pieces.size()) + " pieces of " + std::to_string(takes.size()) +
               (takes.size() == 1 ? " take" : " takes");
        if (isMoved) out += ", some moved or retuned";
    }
    const PlayingNotes& p = take->playing;
    if (!p.pick.empty()) out += ", " + p.pick;
    if (!p.cloth.empty()) out += ", cloth " + p.cloth;
    if (p.capo > 0) out += ", capo at fret " + std::to_string(p.capo);
    if (!p.stringsSince.empty()) out += ", strings since " + p.stringsSince;
    return out;
}

/// What a layer is and where it goes: "crunch, plain.v1, into rhythm", "drums, stereo".
std::string wayText(const Layer& layer)
{
    std::string out = layer.rig.empty() ? "dry" : shortName(layer.rig);
    if (!mayHaveRig(layer.role)) {
        out = layer.role == LayerRole::Backing ? sourceOf(layer) : nameOf(layer.role);
        if (const Take* take = layer.chosenTake(); take && take->isStereo) out += ", stereo";
    }
    if (!layer.bus.empty()) out += ", into " + layer.bus;
    for (const Send& send : layer.sends) out += ", to " + send.to + " at " + numberText(send.gainDb) + " dB";
    return out;
}

/// The buses of a song as a table, and its sections in a line; adds the rigs that they name.
void appendBuses(const Song& song, std::string& html, std::vector<std::string>& rigs)
{
    const auto note = [&](const std::string& rig) {
        if (!rig.empty() && std::ranges::find(rigs, rig) == rigs.end()) rigs.push_back(rig);
        return rig.empty() ? std::string("none") : shortName(rig);
    };
    if (!song.sections.empty()) {
        html += "<p>Sections:";
        for (const Section& s : song.sections)
            html += " " + escaped(s.name) + " from bar " +
                    numberText(song.grid().barAt(song.grid().secondsOfQuarter(s.quarter))) +
                    (&s == &song.sections.back() ? "" : ",");
        html += "</p>";
    }
    if (song.buses.empty() && song.rig.empty() && song.gainDb == 0.0) return;
    html += "<table><tr><th>bus<th>goes into<th>gain<th>sends<th>rig</tr>";
    for (const Bus& bus : song.buses) {
        std::string sends;
        for (const Send& s : bus.sends)
            sends += (sends.empty() ? "" : ", ") + s.to + " at " + numberText(s.gainDb) + " dB";
        html += "<tr>" + cell(bus.name) + cell(bus.into.empty() ? "the song" : bus.into) +
                cell(numberText(bus.gainDb) + " dB") + cell(sends) + cell(note(bus.rig)) + "</tr>";
    }
    html += "<tr>" + cell(song.name) + cell("output") + cell(numberText(song.gainDb) + " dB") + cell("") +
            cell(note(song.rig)) + "</tr></table>";
}

/// The layers of a part as a table; adds the rigs that they name.
void appendPart(const Part& part, LayerPath at, const std::vector<LayerReading>& readings, std::string& html,
                std::vector<std::string>& rigs)
{
    html += "<table><tr><th>layer<th>place<th>gain<th>guitar, pickup<th>take<th>level<th>recorded<th>rig</tr>";
    for (at.layer = 0; at.layer < part.layers.size(); ++at.layer) {
        const Layer& layer = part.layers[at.layer];
        const Take* take = layer.chosenTake();
        const auto reading = std::ranges::find(readings, at, &LayerReading::path);
        if (!layer.rig.empty() && std::ranges::find(rigs, layer.rig) == rigs.end()) rigs.push_back(layer.rig);
        html += "<tr>" + cell(layer.name) + cell(placeText(layer.place)) +
                cell(numberText(layer.gainDb) + " dB" + movedText(layer)) +
                cell(layer.guitar + (layer.pickup.empty() ? "" : ", " + layer.pickup)) + cell(takeText(layer)) +
                cell(reading != readings.end() ? reading->level : "") + cell(take ? timeText(take->recorded) : "") +
                cell(wayText(layer)) + "</tr>";
    }
    html += "</table>";
}

void appendRig(const SessionFolder& session, const std::string& file, std::string& html)
{
    std::vector<std::string> warnings;
    const auto rig = session.loadRig(file, Unknown::Bypass, warnings);
    html += "<h3>" + escaped(shortName(file)) + "</h3>";
    if (!rig) return void(html += "<p>" + escaped(rig.error().line()) + "</p>");
    html += "<p>" + escaped(rig->name) + ", version " + std::to_string(rig->version) + " \u00b7 output " +
            numberText(rig->outputDb) + " dB" +
            (rig->di ? " \u00b7 dialled in on a DI at " + numberText(std::round(10.0 * rig->di->averageDbfs) / 10.0) +
                           " dBFS"
                     : "") +
            "</p><table>";
    appendChain(rig->chain, html, 0);
    html += "</table><pre>" + escaped(recallLine(rig->chain)) + "</pre>";
}

} // namespace

std::string recallPartHtml(const SessionFolder& session, std::size_t song, std::size_t part,
                           const std::vector<LayerReading>& readings)
{
    const auto& songs = session.document().songs;
    if (song >= songs.size() || part >= songs[song].parts.size()) return {};
    std::string html;
    std::vector<std::string> rigs;
    appendPart(songs[song].parts[part], {song, part, 0}, readings, html, rigs);
    for (const auto& file : rigs) appendRig(session, file, html);
    return html;
}

std::string recallSheetHtml(const SessionFolder& session, const std::vector<LayerReading>& readings)
{
    const SessionDocument& d = session.document();
    std::string html = kHead;
    html += "<h1>" + escaped(d.name) + "</h1><p>Recall sheet \u00b7 " +
            (d.sampleRateHz > 0 ? std::to_string(d.sampleRateHz) + " Hz" : std::string("no rate yet")) +
            " \u00b7 0 VU is " + numberText(d.referenceDbfs) + " dBFS \u00b7 full scale is " +
            numberText(d.interface.dbuAtFullScale) + " dBu" +
            (d.interface.assumed ? " (assumed, not calibrated)" : "") + " \u00b7 the centre loses " +
            panLawText(d.law) + " dB</p>";
    std::vector<std::string> rigs;
    for (std::size_t s = 0; s < d.songs.size(); ++s) {
        const Song& song = d.songs[s];
        html += "<h2>" + escaped(song.name) + "</h2><p>" + numberText(song.tempoBpm) + " BPM \u00b7 " +
                escaped(song.meter) + " \u00b7 " + escaped(song.tuning) + "</p>";
        for (std::size_t p = 0; p < song.parts.size(); ++p) {
            html += "<h3>" + escaped(song.parts[p].name) + "</h3>";
            appendPart(song.parts[p], {s, p, 0}, readings, html, rigs);
        }
        appendBuses(song, html, rigs);
    }
    html += "<h2>Rigs</h2>";
    for (const auto& file : rigs) appendRig(session, file, html);
    html += "<h2>Log</h2><table><tr><th>time<th>where<th>what</tr>";
    for (const LogEntry& e : session.readLog())
        html += "<tr><td class=n>" + escaped(e.time) + "</td>" + cell(e.where()) + cell(e.text) + "</tr>";
    html += "</table></body></html>\n";
    return html;
}

std::string logCsv(const std::vector<LogEntry>& entries)
{
    const auto field = [](const std::string& text) {
        if (text.find_first_of(",\"\r\n") == std::string::npos) return text;
        std::string out = "\"";
        for (const char c : text) out += c == '"' ? std::string("\"\"") : std::string(1, c);
        return out + "\"";
    };
    std::string out = "time,what,song,part,layer,text\r\n";
    for (const LogEntry& e : entries)
        out += field(e.time) + "," + field(e.what) + "," + field(e.song) + "," + field(e.part) + "," + field(e.layer) +
               "," + field(e.text) + "\r\n";
    return out;
}

} // namespace gristle::core
