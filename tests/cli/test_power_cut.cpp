// A power cut while recording: a small file system on a file of its own, frozen at a random moment as the disk has it
// then, mounted again and recovered. Needs the right to mount; `./run soak` does it fifty times.

#include "support/run_cli.h"

#include <QtTest/QtTest>
#include <random>
#include <unistd.h>

using namespace gristle;

namespace {

bool does(const QString& program, const QStringList& words)
{
    QProcess p;
    p.start(program, words);
    return p.waitForFinished(60000) && p.exitStatus() == QProcess::NormalExit && p.exitCode() == 0;
}

/// A file system in a file, mounted for as long as this lives.
struct Mounted {
    QString at;
    bool is = false;
    Mounted(const QString& image, const QString& where) : at(where)
    {
        QDir().mkpath(at);
        is = does("mount", {"-o", "loop", image, at});
    }
    ~Mounted()
    {
        if (is) does("umount", {at});
    }
};

} // namespace

class TestPowerCut : public QObject {
    Q_OBJECT
private slots:
    void whatWasPlayedIsThere();
};

void TestPowerCut::whatWasPlayedIsThere()
{
    if (::geteuid() != 0) QSKIP("only root may mount a file system");
    QTemporaryDir dir;
    const QString image = dir.filePath("disk"), frozen = dir.filePath("frozen");
    const auto format = [&] {
        QFile file(image);
        return file.open(QIODevice::WriteOnly | QIODevice::Truncate) && file.resize(24 << 20) &&
               does("mkfs.ext4", {"-q", "-F", image});
    };
    if (!format() || !Mounted(image, dir.filePath("probe")).is) QSKIP("no file system can be mounted here");
    constexpr double kMostMissingS = 2.0;
    const int asked = qEnvironmentVariableIntValue("GRISTLE_POWER_CUTS"), rounds = asked > 0 ? asked : 3;
    std::mt19937 random(5);
    double most = 0.0;
    int recovered = 0;
    for (int round = 0; round < rounds; ++round) {
        QVERIFY(format());
        double recordedS = 0.0;
        {
            const Mounted disk(image, dir.filePath("mounted"));
            QVERIFY(disk.is);
            const QString session = disk.at + "/S.gristle";
            QCOMPARE(test::run({"session", "new", session}).code, 0);
            QVERIFY(does("sync", {}));
            QProcess recording;
            recording.start(GRISTLE_CLI_PATH, {"--quiet", "record", "--session", session, "--part", "Riff", "--device",
                                               "simulated:", "--seconds", "60"});
            // The first sample is there when the file is longer than its header.
            const QDir audio(session + "/audio");
            QElapsedTimer since;
            const auto bytes = [&] {
                const auto files = audio.entryInfoList({".recording*.wav"}, QDir::Files | QDir::Hidden);
                return files.isEmpty() ? 0 : files.front().size();
            };
            QTRY_VERIFY_WITH_TIMEOUT(bytes() > 2000, 20000);
            since.start();
            QTest::qWait(300 + int(random() % 5000u));
            recordedS = double(since.elapsed()) / 1000.0;
            QVERIFY(does("cp", {"--sparse=always", image, frozen}));
            recording.kill();
            recording.waitForFinished();
        }
        const Mounted again(frozen, dir.filePath("again"));
        QVERIFY(again.is);
        const auto back = test::run({"--json", "session", "recover", again.at + "/S.gristle"});
        QVERIFY2(back.code == 0, back.error);
        double keptS = 0.0;
        for (const auto& take : back.json()["take"].toArray())
            keptS += test::number(take.toObject()["frames"]) / 48000.0, ++recovered;
        most = std::max(most, recordedS - keptS);
        QVERIFY2(recordedS - keptS <= kMostMissingS,
                 qPrintable(QStringLiteral("round %1: %2 s recorded, %3 s kept").arg(round).arg(recordedS).arg(keptS)));
        QCOMPARE(test::run({"session", "check", again.at + "/S.gristle"}).code, 0);
    }
    qInfo("%d power cuts, %d takes recovered, at most %.2f s missing", rounds, recovered, most);
}

QTEST_GUILESS_MAIN(TestPowerCut)
#include "test_power_cut.moc"
