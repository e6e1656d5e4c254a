// Audio files of every kind that is read: opened, read, measured.

#include "core/measure/measure_file.h"
#include "fuzz/fuzz_target.h"

#include <cmath>
#include <fstream>
#include <sndfile.h>
#include <unistd.h>

using namespace gristle::core;

namespace gristle::fuzz {

std::vector<std::string> seeds()
{
    std::vector<std::string> out;
    const std::string name = "/tmp/gristle-fuzz-" + std::to_string(getpid());
    for (const int format :
         {SF_FORMAT_WAV | SF_FORMAT_PCM_16, SF_FORMAT_WAV | SF_FORMAT_PCM_24, SF_FORMAT_WAV | SF_FORMAT_FLOAT,
          SF_FORMAT_WAVEX | SF_FORMAT_PCM_24, SF_FORMAT_WAV | SF_FORMAT_DOUBLE, SF_FORMAT_AIFF | SF_FORMAT_PCM_24,
          SF_FORMAT_FLAC | SF_FORMAT_PCM_16, SF_FORMAT_W64 | SF_FORMAT_PCM_24, SF_FORMAT_RF64 | SF_FORMAT_PCM_24})
        for (const int channels : {1, 2}) {
            SF_INFO info{};
            info.samplerate = 48000;
            info.channels = channels;
            info.format = format;
            std::vector<float> x(std::size_t(600 * channels));
            for (std::size_t i = 0; i < x.size(); ++i) x[i] = 0.5f * std::sin(float(i) * 0.1f);
            SNDFILE* f = sf_open(name.c_str(), SFM_WRITE, &info);
            if (!f) continue;
            sf_writef_float(f, x.data(), 600);
            sf_close(f);
            std::ifstream file(name, std::ios::binary);
            out.emplace_back(std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>());
        }
    unlink(name.c_str());
    return out;
}

std::vector<std::string> words()
{
    return {"RIFF", "WAVE", "fmt ", "data", "LIST", "FORM", "AIFF", "COMM", "SSND", "fLaC", "ds64", "RF64", "bext"};
}

} // namespace gristle::fuzz

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    const std::string path = gristle::fuzz::fileOf(data, size);
    auto reader = AudioReader::open(path);
    if (!reader) return reader.error().message.empty() || reader.error().remedy.empty() ? std::abort(), 0 : 0;
    for (std::size_t frames = 0; frames < 1000000;) {
        const auto block = reader->readInterleaved(4096);
        if (!block || block->empty()) break;
        frames += block->size() / reader->info().channels;
    }
    (void)readRecording(path);
    MeasureOptions options;
    options.keepPicture = true;
    (void)measureFile(path, options);
    return 0;
}
