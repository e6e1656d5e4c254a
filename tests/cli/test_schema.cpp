// docs/schema says what our files look like: a validator of another make holds sessions and rigs that were written
// against it.

#include "core/session/session_folder.h"
#include "support/demo_copy.h"
#include "support/session_example.h"

#include <QDir>
#include <QFile>
#include <QJsonDocument>
#include <QProcess>
#include <QtTest/QtTest>

using namespace gristle;

class TestSchema : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void whatIsWrittenIsWhatIsSaid();
    void whatIsWrongIsFound_data();
    void whatIsWrongIsFound();

private:
    QString path(const char* name) const { return dir_.filePath(name); }
    static QString schema(const char* name) { return QStringLiteral(GRISTLE_SOURCE_DIR "/docs/schema/") + name; }
    /// @returns what the validator says; nothing where all is right
    static QString complaints(const QString& schema, const QStringList& files)
    {
        QProcess python;
        python.start("/usr/bin/python3",
                     QStringList{GRISTLE_SOURCE_DIR "/tests/support/validate_schema.py", schema} + files);
        if (!python.waitForFinished(120000)) return "the validator did not end";
        return python.exitCode() == 0 ? QString() : QString::fromUtf8(python.readAll()) + python.readAllStandardError();
    }
    QTemporaryDir dir_;
};

void TestSchema::initTestCase()
{
    if (QProcess::execute("/usr/bin/python3", {"-c", "import jsonschema"}) != 0)
        QSKIP("python3-jsonschema is not installed: `./run test` installs it");
    QVERIFY(test::copyDemo(path("demo.gristle").toStdString()));
    QVERIFY(bool(core::SessionFolder::create(path("example.gristle").toStdString(), test::sessionExample(),
                                             "2026-11-01T10:00:00")));
}

void TestSchema::whatIsWrittenIsWhatIsSaid()
{
    QString told =
        complaints(schema("session.json"), {path("demo.gristle/session.json"), path("example.gristle/session.json")});
    QVERIFY2(told.isEmpty(), qPrintable(told));
    const QDir rigs(path("demo.gristle/rigs"));
    QStringList files;
    for (const QString& name : rigs.entryList({"*.json"}, QDir::Files)) files << rigs.filePath(name);
    QVERIFY(files.size() >= 2);
    told = complaints(schema("rig.json"), files);
    QVERIFY2(told.isEmpty(), qPrintable(told));
}

void TestSchema::whatIsWrongIsFound_data()
{
    QTest::addColumn<QByteArray>("right");
    QTest::addColumn<QByteArray>("wrong");
    QTest::newRow("another format") << QByteArray("\"gristle_session\":1") << QByteArray("\"gristle_session\":2");
    QTest::newRow("another law") << QByteArray("\"place_law\":\"4.5\"") << QByteArray("\"place_law\":\"5\"");
    QTest::newRow("a key of its own") << QByteArray("\"gristle_session\":1")
                                      << QByteArray("\"gristle_session\":1,\"x\":1");
    QTest::newRow("a place far out") << QByteArray("\"place\":-100") << QByteArray("\"place\":-1000");
}

void TestSchema::whatIsWrongIsFound()
{
    QFETCH(QByteArray, right);
    QFETCH(QByteArray, wrong);
    QFile file(path("example.gristle/session.json"));
    QVERIFY(file.open(QIODevice::ReadOnly));
    QByteArray text = QJsonDocument::fromJson(file.readAll()).toJson(QJsonDocument::Compact);
    QVERIFY2(text.contains(right), text.constData());
    QFile other(path("wrong.json"));
    QVERIFY(other.open(QIODevice::WriteOnly));
    other.write(text.replace(right, wrong));
    other.close();
    QVERIFY(!complaints(schema("session.json"), {other.fileName()}).isEmpty());
}

QTEST_GUILESS_MAIN(TestSchema)
#include "test_schema.moc"
