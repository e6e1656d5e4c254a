// Impulse files, recordings of sweeps and the cache of a folder: read, measured, edited, blended, deconvolved.

#include "core/audio/audio_reader.h"
#include "core/impulse/impulse_edit.h"
#include "core/impulse/impulse_shelf.h"
#include "core/impulse/sweep.h"
#include "fuzz/fuzz_target.h"

#include <cmath>
#include <cstring>
#include <fstream>
#include <sndfile.h>
#include <unistd.h>

using namespace gristle::core;

namespace gristle::fuzz {

namespace {

std::string fileWith(const std::vector<float>& x, int channels, int format)
{
    const std::string name = "/tmp/gristle-fuzz-impulse-" + std::to_string(getpid());
    SF_INFO info{};
    info.samplerate = 8000;
    info.channels = channels;
    info.format = format;
    SNDFILE* f = sf_open(name.c_str(), SFM_WRITE, &info);
    if (!f) return {};
    sf_writef_float(f, x.data(), sf_count_t(x.size()) / channels);
    sf_close(f);
    std::ifstream file(name, std::ios::binary);
    std::string out{std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>()};
    file.close();
    unlink(name.c_str());
    return out;
}

} // namespace

std::vector<std::string> seeds()
{
    std::vector<std::string> out;
    std::vector<float> decay(800), both(800);
    for (std::size_t i = 20; i < decay.size(); ++i)
        decay[i] = float(0.8 * std::exp(-double(i - 20) / 60.0) * std::cos(0.3 * double(i)));
    for (std::size_t i = 0; i < both.size(); ++i) both[i] = i % 2 == 0 ? decay[i / 2] : -decay[i / 2];
    auto swept = sweep({50.0, 3500.0, 0.3, 8000}).value();
    swept.resize(swept.size() + 1600);
    for (const int format :
         {SF_FORMAT_WAV | SF_FORMAT_PCM_16, SF_FORMAT_WAV | SF_FORMAT_FLOAT, SF_FORMAT_FLAC | SF_FORMAT_PCM_16}) {
        out.push_back(fileWith(decay, 1, format));
        out.push_back(fileWith(both, 2, format));
        out.push_back(fileWith(swept, 1, format));
    }
    out.push_back(
        R"({"file":"a.wav","bytes":12,"changed":3,"hash":"0123","rate":48000,"channels":1,"s":0.1,"energy90_ms":2,"db10":[]})"
        "\n{\"file\":\"b.wav\",\"bytes\":1,\"changed\":2,\"why\":\"silent\"}\n");
    return out;
}

std::vector<std::string> words()
{
    return {"RIFF",     "WAVE",    "fmt ",     "data", "fLaC",  "\"file\"",
            "\"db10\"", "\"why\"", "\"hash\"", "null", "1e999", "-1"};
}

} // namespace gristle::fuzz

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    const std::string path = gristle::fuzz::fileOf(data, size);
    const auto told = [](const Error& e) {
        if (e.message.empty() || e.remedy.empty()) std::abort(); // whoever fails says what to do
    };
    for (const ImpulseCard& card : readShelf(path))
        if (card.isImpulse() && card.file.size() > size) std::abort();
    const ImpulseCard card = readCard("/", path.substr(1));
    for (const float db : card.db)
        if (!std::isfinite(db)) std::abort();
    const auto read = readRecording(path, 0, 40000);
    if (!read) return told(read.error()), 0;
    if (const auto info = impulseInfo(*read); !info) told(info.error());
    if (size % 8 > 1) return 0; // what follows takes a hundred times as long
    ImpulseEdit edit;
    edit.trim = size % 16 == 0;
    edit.lengthMs = size % 3 == 0 ? 20.0 : 0.0;
    edit.minimumPhase = size % 5 == 0;
    edit.match = size % 7 == 0;
    if (const auto edited = editImpulse(*read, edit); !edited) told(edited.error());
    if (const auto blend = blendImpulses({{path}, {path, -3.0, 2.5, true}}, size % 16 < 8); !blend) told(blend.error());
    static const auto played = sweep({50.0, 3500.0, 0.3, 8000}).value();
    if (const auto captured = capture(played, read->audio.channel(0), 8000, {.lengthS = 0.05}); !captured)
        told(captured.error());
    return 0;
}
