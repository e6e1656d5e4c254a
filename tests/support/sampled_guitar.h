#pragma once

#include "core/audio/audio_reader.h"

#include <QFile>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>
#include <algorithm>
#include <cmath>
#include <vector>

namespace gristle::test {

/// A note for the sampled guitar: when, how long until it is damped, which, how hard.
struct SampledNote {
    double startS = 0.0, lengthS = 0.5;
    int midi = 40; ///< 40 is the low E
    int velocity = 100;
};

enum class SampledGuitar { Clean = 27, Muted = 28, Overdriven = 29 }; ///< General MIDI programs, from 0

/// When a note that is asked for at a time is begun: the synthesiser does so at blocks of 64 frames.
inline double sampledOnsetS(double askedS, double rateHz)
{
    constexpr double kBlock = 64.0;
    return std::ceil(askedS * rateHz / kBlock - 1e-6) * kBlock / rateHz;
}

/// Plays notes on a sampled guitar: Debian's fluidsynth with a General MIDI sound font (test dependencies; `./run test`
/// installs them). One channel at `rateHz`, dry, peak at `peak`; empty where they are not installed.
/// @param font  a path; empty: the first that is here
inline std::vector<float> playSampled(const std::vector<SampledNote>& notes, SampledGuitar guitar, int rateHz,
                                      double seconds, double peak, QString font = {})
{
    for (const char* name : {"/usr/share/sounds/sf2/TimGM6mb.sf2", "/usr/share/sounds/sf2/FluidR3_GM.sf2"})
        if (font.isEmpty() && QFile::exists(name)) font = name;
    if (font.isEmpty() || QStandardPaths::findExecutable("fluidsynth").isEmpty()) return {};

    struct Event {
        int tick;
        bool on;
        int midi, velocity;
    };
    std::vector<Event> events;
    for (const SampledNote& n : notes) { // a tick is a millisecond: 500 a quarter note of half a second
        events.push_back({int(n.startS * 1000.0), true, n.midi, n.velocity});
        events.push_back({int((n.startS + n.lengthS) * 1000.0), false, n.midi, 0});
    }
    std::ranges::stable_sort(events, {}, &Event::tick);
    QByteArray track;
    const auto variable = [&](int value) {
        for (int shift = 21; shift > 0; shift -= 7)
            if (value >> shift) track.append(char(0x80 | ((value >> shift) & 0x7F)));
        track.append(char(value & 0x7F));
    };
    const auto bytes = [&](std::initializer_list<int> values) {
        for (const int v : values) track.append(char(v));
    };
    bytes({0, 0xC0, int(guitar)});
    int at = 0;
    for (const Event& e : events) {
        variable(e.tick - at);
        at = e.tick;
        bytes({e.on ? 0x90 : 0x80, e.midi, e.velocity});
    }
    variable(1500);
    bytes({0xFF, 0x2F, 0});
    QByteArray file("MThd\0\0\0\6\0\0\0\1\1\xF4MTrk", 18);
    for (int shift = 24; shift >= 0; shift -= 8) file.append(char(track.size() >> shift));
    QTemporaryDir dir;
    QFile midi(dir.filePath("notes.mid"));
    if (!midi.open(QIODevice::WriteOnly)) return {};
    midi.write(file + track);
    midi.close();
    const QString wav = dir.filePath("notes.wav");
    if (QProcess::execute("fluidsynth",
                          {"-n", "-i", "-q", "-R", "0", "-C", "0", "-g", "0.5", "-r", QString::number(rateHz), "-T",
                           "wav", "-O", "float", "-F", wav, font, midi.fileName()}) != 0)
        return {};
    const auto recording = core::readRecording(wav.toStdString());
    if (!recording) return {};
    std::vector<float> x(recording->audio.channel(0).begin(), recording->audio.channel(0).end());
    x.resize(std::size_t(seconds * rateHz), 0.0f);
    float most = 0.0f;
    for (const float v : x) most = std::max(most, std::abs(v));
    for (float& v : x) v *= most > 0.0f ? float(peak) / most : 0.0f;
    return x;
}

} // namespace gristle::test
