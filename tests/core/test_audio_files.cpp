#include "core/audio/file_place.h"
#include "core/audio/peak_pyramid.h"
#include "core/audio/resampler.h"
#include "support/file_size_limit.h"
#include "support/signals.h"

#include <QFile>
#include <QtTest/QtTest>
#include <fstream>
#include <random>
#include <sndfile.h>

using namespace gristle;
using namespace gristle::core;

class TestAudioFiles : public QObject {
    Q_OBJECT
private slots:
    void roundTrips_data();
    void roundTrips();
    void twentyFourBitsRoundToTheNearestCode();
    void clippingIsCounted();
    void alikeChannelsCountAsOne();
    void copyKeepsEverySample();
    void badFilesAreNamed_data();
    void badFilesAreNamed();
    void whatAHeadLeavesOpenIsRead();
    void notANumberIsRefused();
    void truncationIsTold();
    void missingFolderLeavesNothing();
    void abandonedWriterLeavesNothing();
    void fullDiskLeavesNothing();
    void ownDecoderGivesTheLibrarysBits_data();
    void ownDecoderGivesTheLibrarysBits();
    void windingAndOddBlocks();
    void extremesAndSumsAgreeWithPlainLoops();
    void everyFormatIsRead_data();
    void everyFormatIsRead();
    void filesAreTheSameEveryTime();
    void resamplingKeepsTimeAndLevel_data();
    void resamplingKeepsTimeAndLevel();
    void pyramidHoldsEveryExtreme();
    void pyramidDoesNotDependOnBlocks();

private:
    QTemporaryDir dir_;
};

void TestAudioFiles::roundTrips_data()
{
    QTest::addColumn<int>("rate");
    QTest::addColumn<int>("channels");
    QTest::addColumn<int>("format");
    QTest::newRow("mono 44.1 16 bit") << 44100 << 1 << int(SampleFormat::Int16);
    QTest::newRow("stereo 48 24 bit") << 48000 << 2 << int(SampleFormat::Int24);
    QTest::newRow("five channels 96 float") << 96000 << 5 << int(SampleFormat::Float32);
    QTest::newRow("odd rate") << 37800 << 1 << int(SampleFormat::Int24);
}

void TestAudioFiles::roundTrips()
{
    QFETCH(int, rate);
    QFETCH(int, channels);
    QFETCH(int, format);
    std::vector<std::vector<float>> data;
    for (int c = 0; c < channels; ++c) data.push_back(test::whiteNoise(0.1, 10007, unsigned(c + 1)));
    const auto path = test::writeWav(dir_, "round trip.wav", data, rate, SampleFormat(format));
    const auto read = readRecording(path);
    QVERIFY(bool(read));
    QCOMPARE(read->sampleRateHz, rate);
    QCOMPARE(read->audio.channels(), std::size_t(channels));
    const double half = SampleFormat(format) == SampleFormat::Int16   ? 0.5 / 32768
                        : SampleFormat(format) == SampleFormat::Int24 ? 0.5 / 8388608
                                                                      : 0.0;
    for (std::size_t c = 0; c < data.size(); ++c)
        for (std::size_t i = 0; i < data[c].size(); ++i)
            QVERIFY(std::abs(double(read->audio.channel(c)[i]) - double(data[c][i])) <= half * 1.0001); // half a code
}

void TestAudioFiles::twentyFourBitsRoundToTheNearestCode()
{
    const float step = 1.0f / 8388608.0f;
    const auto path = test::writeWav(dir_, "codes.wav", {{0.4f * step, 0.6f * step, -0.6f * step, 1.0f, -1.0f}}, 48000,
                                     SampleFormat::Int24);
    const auto read = readRecording(path);
    QVERIFY(bool(read));
    const auto x = read->audio.channel(0);
    QCOMPARE(x[0], 0.0f);
    QCOMPARE(x[1], step);
    QCOMPARE(x[2], -step);
    QCOMPARE(x[3], 1.0f - step);
    QCOMPARE(x[4], -1.0f);
}

void TestAudioFiles::clippingIsCounted()
{
    auto writer = AudioWriter::create(dir_.filePath("clip.wav").toStdString(), {48000, 1, SampleFormat::Int24, 4});
    QVERIFY(bool(writer));
    QVERIFY(bool(writer->write(test::recording({{0.5f, 1.2f, -1.5f, 0.999f}}, 48000).audio)));
    QVERIFY(bool(writer->commit()));
    QCOMPARE(writer->clippedSamples(), std::int64_t(2));
}

void TestAudioFiles::alikeChannelsCountAsOne()
{
    const auto x = test::whiteNoise(0.1, 5000);
    QCOMPARE(*chooseChannel(test::writeWav(dir_, "alike.wav", {x, x}, 48000), 0), std::size_t(0));
    auto y = x;
    y.back() += 0.1f;
    const auto unlike = test::writeWav(dir_, "unlike.wav", {x, y}, 48000);
    const auto refused = chooseChannel(unlike, 0);
    QVERIFY(!refused);
    QCOMPARE(refused.error().code, ErrorCode::OutOfRange);
    QCOMPARE(*chooseChannel(unlike, 2), std::size_t(1));
    QCOMPARE(chooseChannel(unlike, 3).error().code, ErrorCode::Usage);
}

void TestAudioFiles::copyKeepsEverySample()
{
    const auto x = test::whiteNoise(0.2, 9001), y = test::whiteNoise(0.2, 9001, 2);
    const auto from = test::writeWav(dir_, "from, with spaces.wav", {x, y}, 96000, SampleFormat::Int24);
    const std::filesystem::path to = dir_.filePath("copy.wav").toStdString();
    QVERIFY(bool(copyLosslessly(from, to)));
    const auto a = readRecording(from), b = readRecording(to);
    QVERIFY(a && b);
    QCOMPARE(b->sampleRateHz, 96000);
    for (std::size_t c = 0; c < 2; ++c) QVERIFY(std::ranges::equal(a->audio.channel(c), b->audio.channel(c)));
    const auto alike = copyLosslessly(test::writeWav(dir_, "dual.wav", {x, x}, 48000), to);
    QVERIFY(bool(alike));
    QCOMPARE(alike->channels, std::size_t(1)); // DESIGN.md: alike channels are one take
}

void TestAudioFiles::badFilesAreNamed_data()
{
    QTest::addColumn<QByteArray>("content");
    QTest::addColumn<int>("code");
    QTest::newRow("empty") << QByteArray() << int(ErrorCode::Empty);
    QTest::newRow("text renamed") << QByteArray("this is no recording at all, only words\n")
                                  << int(ErrorCode::NotAudio);
    QTest::newRow("header only") << QByteArray("RIFF\x24\0\0\0WAVEfmt ", 16) << int(ErrorCode::NotAudio);
    // A frame's bytes as they are or as a broken writer leaves them; those of a second follow `truly`.
    const auto header = [](int rate, int channels, int bits = 16, int frameBytes = -1, int truly = 2) {
        QByteArray h("RIFF\x2c\0\0\0WAVEfmt \x10\0\0\0\x01\0", 22);
        const auto put = [&h](unsigned v, int bytes) {
            for (int i = 0; i < bytes; ++i) h.append(char(v >> (8 * i) & 255));
        };
        put(unsigned(channels), 2);
        put(unsigned(rate), 4);
        put(unsigned(rate * channels * truly), 4);
        put(unsigned(frameBytes < 0 ? channels * 2 : frameBytes), 2);
        put(unsigned(bits), 2);
        h.append("data", 4);
        put(8, 4);
        h.append(8, '\1');
        return h;
    };
    QTest::newRow("rate zero") << header(0, 1) << -1;
    QTest::newRow("rate 1 MHz") << header(1000000, 1) << int(ErrorCode::Unsupported);
    QTest::newRow("no channels") << header(48000, 0) << -1;
    QTest::newRow("thousand channels") << header(48000, 1000) << -1;
    QTest::newRow("eight bits in frames of two bytes") << header(48000, 1, 8) << int(ErrorCode::NotAudio);
    QTest::newRow("eight bits, frames of none") << header(48000, 1, 8, 0) << int(ErrorCode::NotAudio);
    QTest::newRow("24 bits in frames of four") << header(48000, 1, 24, 4, 4) << int(ErrorCode::NotAudio);
    QByteArray huge("RIFF\xff\xff\xff\x7fWAVEfmt \xff\xff\xff\x7f", 20);
    QTest::newRow("huge header") << huge << int(ErrorCode::NotAudio);
}

void TestAudioFiles::badFilesAreNamed()
{
    QFETCH(QByteArray, content);
    QFETCH(int, code);
    QFile file(dir_.filePath("bad one.wav"));
    QVERIFY(file.open(QIODevice::WriteOnly));
    file.write(content);
    file.close();
    const auto reader = AudioReader::open(file.fileName().toStdString());
    QVERIFY(!reader);
    if (code >= 0) QCOMPARE(int(reader.error().code), code);
    QVERIFY(reader.error().message.starts_with("bad one.wav: ")); // says which file
    QVERIFY(!reader.error().remedy.empty());                      // and what to do
}

void TestAudioFiles::whatAHeadLeavesOpenIsRead()
{
    const auto x = test::whiteNoise(0.1, 4000);
    const auto name = dir_.filePath("left open.wav");
    auto writer = AudioWriter::create(name.toStdString(), {.format = SampleFormat::Int16});
    QVERIFY(writer && writer->write(test::recording({x}, 48000).audio) && writer->commit());
    const auto whole = readRecording(name.toStdString());
    QFile file(name);
    QVERIFY(file.open(QIODevice::ReadWrite));
    const qint64 format = file.read(4096).indexOf("fmt ") + 8;
    QVERIFY(file.seek(format + 8) && file.write(QByteArray(6, '\0')) == 6); // bytes a second and a frame
    file.close();
    const auto read = readRecording(name.toStdString());
    QVERIFY(whole && read);
    QVERIFY(std::ranges::equal(read->audio.channel(0), whole->audio.channel(0)));
}

void TestAudioFiles::notANumberIsRefused()
{
    // Written by the library itself: our writer lets no such thing through.
    for (const float bad : {std::numeric_limits<float>::quiet_NaN(), std::numeric_limits<float>::infinity()}) {
        auto x = test::whiteNoise(0.1, 4000);
        x[1234] = bad;
        const std::string name = dir_.filePath("bad.wav").toStdString();
        SF_INFO info{};
        info.samplerate = 48000, info.channels = 1, info.format = SF_FORMAT_WAV | SF_FORMAT_FLOAT;
        SNDFILE* f = sf_open(name.c_str(), SFM_WRITE, &info);
        QVERIFY(f && sf_writef_float(f, x.data(), 4000) == 4000);
        sf_close(f);
        QCOMPARE(readRecording(name).error().code, ErrorCode::NotFinite);
        auto writer = AudioWriter::create(dir_.filePath("mended.wav").toStdString(), {});
        QVERIFY(bool(writer));
        QVERIFY(bool(writer->write(test::recording({x}, 48000).audio)) && bool(writer->commit()));
        QCOMPARE(writer->notFiniteSamples(), std::int64_t(1));
        const auto read = readRecording(dir_.filePath("mended.wav").toStdString());
        QVERIFY(read && read->audio.channel(0)[1234] == 0.0f);
    }
}

void TestAudioFiles::truncationIsTold()
{
    const auto path = test::writeWav(dir_, "long.wav", {test::whiteNoise(0.1, 48000)}, 48000, SampleFormat::Int16);
    std::filesystem::resize_file(path, std::filesystem::file_size(path) / 2);
    const auto reader = AudioReader::open(path);
    QVERIFY(bool(reader));
    QVERIFY(reader->info().isTruncated());
    QCOMPARE(reader->info().promisedFrames, std::int64_t(48000));
    QVERIFY(reader->info().frames < 24001);
}

void TestAudioFiles::missingFolderLeavesNothing()
{
    const auto writer = AudioWriter::create(dir_.filePath("no such folder/out.wav").toStdString(), {});
    QVERIFY(!writer);
    QCOMPARE(writer.error().code, ErrorCode::WriteFailed);
    QVERIFY(writer.error().message.find("does not exist") != std::string::npos);
}

void TestAudioFiles::abandonedWriterLeavesNothing()
{
    QTemporaryDir own;
    {
        auto writer = AudioWriter::create(own.filePath("half.wav").toStdString(), {});
        QVERIFY(bool(writer));
        QVERIFY(bool(writer->write(AudioBuffer(1, 1000))));
    }
    QVERIFY(QDir(own.path()).entryList(QDir::AllEntries | QDir::Hidden | QDir::NoDotAndDotDot).isEmpty());
}

void TestAudioFiles::fullDiskLeavesNothing()
{
    QTemporaryDir own;
    const test::FileSizeLimit limit(20000);
    const auto wrote =
        writeRecording(own.filePath("big.wav").toStdString(), test::recording({test::whiteNoise(0.1, 100000)}, 48000));
    QVERIFY(!wrote);
    QCOMPARE(wrote.error().code, ErrorCode::WriteFailed);
    QVERIFY(QDir(own.path()).entryList(QDir::AllEntries | QDir::Hidden | QDir::NoDotAndDotDot).isEmpty());
}

void TestAudioFiles::ownDecoderGivesTheLibrarysBits_data()
{
    QTest::addColumn<int>("format");
    QTest::addColumn<int>("channels");
    QTest::newRow("WAV 16 mono") << (SF_FORMAT_WAV | SF_FORMAT_PCM_16) << 1;
    QTest::newRow("WAV 16 stereo") << (SF_FORMAT_WAV | SF_FORMAT_PCM_16) << 2;
    QTest::newRow("WAV 24 mono") << (SF_FORMAT_WAV | SF_FORMAT_PCM_24) << 1;
    QTest::newRow("WAV 24 stereo") << (SF_FORMAT_WAV | SF_FORMAT_PCM_24) << 2;
    QTest::newRow("WAVEX 24 five") << (SF_FORMAT_WAVEX | SF_FORMAT_PCM_24) << 5;
    QTest::newRow("W64 24") << (SF_FORMAT_W64 | SF_FORMAT_PCM_24) << 2;
    QTest::newRow("big-endian WAV 24") << (SF_FORMAT_WAV | SF_FORMAT_PCM_24 | SF_ENDIAN_BIG) << 2;
    QTest::newRow("big-endian WAV 16") << (SF_FORMAT_WAV | SF_FORMAT_PCM_16 | SF_ENDIAN_BIG) << 1;
    QTest::newRow("WAV 8") << (SF_FORMAT_WAV | SF_FORMAT_PCM_U8) << 1;
}

void TestAudioFiles::ownDecoderGivesTheLibrarysBits()
{
    QFETCH(int, format);
    QFETCH(int, channels);
    constexpr int kFrames = 1237; // leaves a rest of every vector width
    SF_INFO info{};
    info.samplerate = 48000;
    info.channels = channels;
    info.format = format;
    const std::string name = dir_.filePath("codes.wav").toStdString();
    std::vector<int> codes(std::size_t(kFrames * channels));
    std::minstd_rand random(9);
    for (int& c : codes) c = int(std::uint32_t(random()) << 1);
    codes.front() = std::numeric_limits<int>::min();
    codes[1] = std::numeric_limits<int>::max();
    codes.back() = std::numeric_limits<int>::min();
    SNDFILE* f = sf_open(name.c_str(), SFM_WRITE, &info);
    QVERIFY(f && sf_writef_int(f, codes.data(), kFrames) == kFrames);
    sf_close(f);
    f = sf_open(name.c_str(), SFM_READ, &info);
    std::vector<float> wanted(codes.size());
    QCOMPARE(sf_readf_float(f, wanted.data(), kFrames), sf_count_t(kFrames));
    sf_close(f);
    auto reader = AudioReader::open(name);
    QVERIFY(bool(reader));
    const auto got = reader->readInterleaved(4096);
    QVERIFY(bool(got));
    QVERIFY(std::ranges::equal(*got, wanted)); // bit for bit
    QVERIFY(reader->readInterleaved(10)->empty());
}

void TestAudioFiles::windingAndOddBlocks()
{
    const auto left = test::whiteNoise(0.1, 5003, 1), right = test::whiteNoise(0.1, 5003, 2);
    const auto name = test::writeWav(dir_, "wound.wav", {left, right}, 48000, SampleFormat::Int24);
    const auto whole = readRecording(name);
    auto reader = AudioReader::open(name);
    QVERIFY(whole && reader);
    AudioBuffer block;
    for (const std::int64_t start : {4999, 0, 17, 2500}) {
        QVERIFY(bool(reader->seek(start)));
        for (std::int64_t at = start; at < 5003;) {
            const auto got = reader->read(block, 77);
            QVERIFY(got && *got == std::size_t(std::min<std::int64_t>(77, 5003 - at)));
            for (std::size_t c = 0; c < 2; ++c)
                QVERIFY(std::ranges::equal(block.channel(c), whole->audio.channel(c).subspan(std::size_t(at), *got)));
            at += std::int64_t(*got);
        }
        QCOMPARE(*reader->read(block, 77), std::size_t(0));
    }
}

void TestAudioFiles::extremesAndSumsAgreeWithPlainLoops()
{
    const auto x = test::whiteNoise(0.3, 300);
    for (std::size_t n = 1; n <= 40; ++n) {
        const auto part = std::span<const float>(x).subspan(n, n);
        const auto [low, high] = std::ranges::minmax_element(part);
        QCOMPARE(extremesOf(part), (MinMax{*low, *high}));
        double sum = 0.0, squares = 0.0;
        for (const float v : part) sum += double(v), squares += double(v) * double(v);
        const Sums sums = sumsOf(part);
        QVERIFY(std::abs(sums.sum - sum) < 1e-14 && std::abs(sums.squares - squares) < 1e-14); // order of additions
    }
    std::vector<MinMax> blocks(4);
    extremesOfBlocks(x, 64, blocks);
    for (std::size_t b = 0; b < 4; ++b) {
        const auto [low, high] = std::minmax_element(x.begin() + long(64 * b), x.begin() + long(64 * b + 64));
        QCOMPARE(blocks[b], (MinMax{*low, *high}));
    }
    QCOMPARE(extremesOf(std::vector<float>(9, -0.5f)), (MinMax{-0.5f, -0.5f})); // all below 0: no 0 creeps in
}

void TestAudioFiles::everyFormatIsRead_data()
{
    QTest::addColumn<int>("format");
    QTest::addColumn<QString>("container");
    QTest::addColumn<double>("step"); // half a code of the depth
    QTest::newRow("AIFF 24") << (SF_FORMAT_AIFF | SF_FORMAT_PCM_24) << "AIFF" << 0.5 / 8388608;
    QTest::newRow("AIFF 8") << (SF_FORMAT_AIFF | SF_FORMAT_PCM_S8) << "AIFF" << 0.6 / 128;
    QTest::newRow("FLAC 16") << (SF_FORMAT_FLAC | SF_FORMAT_PCM_16) << "FLAC" << 0.6 / 32768;
    QTest::newRow("FLAC 24") << (SF_FORMAT_FLAC | SF_FORMAT_PCM_24) << "FLAC" << 0.6 / 8388608;
    QTest::newRow("WAV 32") << (SF_FORMAT_WAV | SF_FORMAT_PCM_32) << "WAV" << 1e-7;
    QTest::newRow("WAV double") << (SF_FORMAT_WAV | SF_FORMAT_DOUBLE) << "WAV" << 1e-9;
    QTest::newRow("RF64") << (SF_FORMAT_RF64 | SF_FORMAT_PCM_24) << "RF64" << 0.6 / 8388608;
    QTest::newRow("WAVE64") << (SF_FORMAT_W64 | SF_FORMAT_FLOAT) << "W64" << 1e-9;
}

void TestAudioFiles::everyFormatIsRead()
{
    QFETCH(int, format);
    QFETCH(QString, container);
    QFETCH(double, step);
    const auto x = test::whiteNoise(0.1, 5000);
    SF_INFO info{};
    info.samplerate = 44100;
    info.channels = 1;
    info.format = format;
    const std::string name = dir_.filePath("any format").toStdString();
    SNDFILE* f = sf_open(name.c_str(), SFM_WRITE, &info);
    QVERIFY(f && sf_writef_float(f, x.data(), 5000) == 5000);
    sf_close(f);
    const auto reader = AudioReader::open(name);
    QVERIFY(bool(reader));
    QCOMPARE(QString::fromStdString(reader->info().container), container);
    const std::filesystem::path copy = dir_.filePath("taken in.wav").toStdString();
    QVERIFY(bool(copyLosslessly(name, copy)));
    const auto direct = readRecording(name), taken = readRecording(copy);
    QVERIFY(direct && taken && direct->audio.frames() == 5000);
    for (std::size_t i = 0; i < 5000; ++i) {
        QVERIFY(std::abs(double(direct->audio.channel(0)[i]) - double(x[i])) <= step * 1.5);
        QCOMPARE(taken->audio.channel(0)[i], direct->audio.channel(0)[i]); // without loss
    }
}

void TestAudioFiles::filesAreTheSameEveryTime()
{
    const auto x = test::whiteNoise(0.1, 4000);
    const auto bytes = [](const std::filesystem::path& p) {
        std::ifstream f(p, std::ios::binary);
        return std::string(std::istreambuf_iterator<char>(f), {});
    };
    const auto a = bytes(test::writeWav(dir_, "a.wav", {x}, 48000));
    QTest::qWait(1100); // a time stamp to the second would differ
    QVERIFY(a == bytes(test::writeWav(dir_, "b.wav", {x}, 48000)));
}

void TestAudioFiles::resamplingKeepsTimeAndLevel_data()
{
    QTest::addColumn<int>("from");
    QTest::addColumn<int>("to");
    QTest::newRow("44.1 to 48") << 44100 << 48000;
    QTest::newRow("96 to 48") << 96000 << 48000;
    QTest::newRow("48 to 44.1") << 48000 << 44100;
}

void TestAudioFiles::resamplingKeepsTimeAndLevel()
{
    QFETCH(int, from);
    QFETCH(int, to);
    const auto out = resampled(test::recording({test::sine(1000.0, 0.5, from, 1.0, 0.3)}, from), to);
    QVERIFY(std::abs(double(out.audio.frames()) - to) <= 1.0);
    const auto expected = test::sine(1000.0, 0.5, to, 1.0, 0.3); // same wave at the same time: no delay
    for (std::size_t i = 4000; i + 4000 < expected.size(); ++i)
        QVERIFY(std::abs(out.audio.channel(0)[i] - expected[i]) < 1e-5f); // -94 dB
}

void TestAudioFiles::pyramidHoldsEveryExtreme()
{
    const auto x = test::whiteNoise(0.2, 100000);
    PeakPyramid pyramid;
    pyramid.push(x);
    pyramid.finish();
    for (const std::size_t columns : {1u, 3u, 97u, 640u}) {
        const auto drawn = pyramid.columns(0.0, double(x.size()), columns);
        for (std::size_t c = 0; c < columns; ++c) {
            const auto from = std::size_t(double(c) * double(x.size()) / double(columns)),
                       to = std::size_t(double(c + 1) * double(x.size()) / double(columns));
            const auto [low, high] = std::minmax_element(x.begin() + long(from), x.begin() + long(to));
            QVERIFY(drawn[c].low <= *low && drawn[c].high >= *high); // never less than is there
        }
    }
    const auto [low, high] = std::ranges::minmax_element(x);
    QCOMPARE(pyramid.columns(0.0, double(x.size()), 1)[0], (MinMax{*low, *high}));
    QCOMPARE(pyramid.columns(200000.0, 300000.0, 2)[0], MinMax{}); // past the end
}

void TestAudioFiles::pyramidDoesNotDependOnBlocks()
{
    const auto x = test::whiteNoise(0.2, 12345);
    PeakPyramid whole, parts;
    whole.push(x);
    for (std::size_t at = 0; at < x.size(); at += 77)
        parts.push(std::span(x).subspan(at, std::min<std::size_t>(77, x.size() - at)));
    whole.finish();
    parts.finish();
    QVERIFY(whole.columns(0, 12345, 50) == parts.columns(0, 12345, 50));
}

QTEST_APPLESS_MAIN(TestAudioFiles)
#include "test_audio_files.moc"
