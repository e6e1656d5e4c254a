#include "app/benches/cab/align_page.h"
#include "app/benches/cab/cab_bench.h"
#include "support/demo_copy.h"
#include "support/window_bench.h"

#include <QLabel>
#include <QPushButton>
#include <QTableWidget>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

/// The Cab bench in a real window, on the demo's part with three microphones, whose places are known.
class TestCab : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    QString demo_;

    struct Open : WindowBench {
        explicit Open(const QString& demo)
        {
            window.openPaths({demo});
            window.session().setPath({1, 1, 1});
            window.session().loop().set(2.0, 3.0);
            window.showBench("Cab");
            settle();
        }
        const Layer& layer(std::size_t i) { return window.session().part()->layers[i]; }
        CabBench& cab() { return *window.bench<CabBench>(); }
        AlignPage& align() { return *cab().page<AlignPage>(); }
        void click(const char* name)
        {
            find<QPushButton>(name)->click();
            settle();
        }
        QTableWidget& table() { return *find<QTableWidget>("alignTable"); }
        QString cell(int row, int column) { return table().item(row, column)->text(); }
        bool finds(const char* code)
        {
            return std::ranges::any_of(window.findChild<FindingsPanel*>()->findings(),
                                       [&](const Finding& f) { return f.code == code; });
        }
    };

private slots:
    void initTestCase()
    {
        demo_ = dir_.filePath("Night Ferry.gristle");
        QVERIFY(test::copyDemo(demo_.toStdString()));
    }

    /// What stands in the table is the geometry that the demo was made with: 21 cm and 307 cm further off, one upside
    /// down. Brought together they agree, the files stay, and it can be taken back.
    void threeMicrophones()
    {
        Open b(demo_);
        QCOMPARE(b.table().rowCount(), 3);
        QCOMPARE(b.cell(0, 3), QString("reference"));
        QCOMPARE(b.cell(1, 3), QString("inverted"));
        QCOMPARE(b.cell(2, 3), QString("normal"));
        QVERIFY2(std::abs(b.cell(1, 2).toDouble() - 21.0) < 2.0, qPrintable(b.cell(1, 2)));
        QVERIFY2(std::abs(b.cell(2, 2).toDouble() - 307.0) < 2.0, qPrintable(b.cell(2, 2)));
        QVERIFY(b.finds("align.inverted"));
        QVERIFY(b.finds("align.late"));
        QVERIFY(b.find<QLabel>("alignSentence")->text().startsWith("Second is inverted"));
        QVERIFY(!b.find<QPushButton>("alignUndo")->isEnabled());
        const auto heardBefore = b.cab().audition();
        QCOMPARE(heardBefore.slots_.size(), std::size_t(2));

        QVERIFY(b.cab().state().wants);
        b.click("alignTogether");
        QCOMPARE(b.cab().state().line, QString("brought together"));
        QCOMPARE(b.layer(0).earlierMs, 0.0);
        QVERIFY(std::abs(b.layer(1).earlierMs - 1000.0 * 0.21 / 343.0) < 0.06);
        QVERIFY(b.layer(1).isInverted);
        QVERIFY(std::abs(b.layer(2).earlierMs - 1000.0 * 3.07 / 343.0) < 0.06);
        QVERIFY(b.cell(1, 7).contains("inverted"));
        // What is kept is what a mix does with it: the sum gains what was promised.
        const auto power = [](const Recording& r) {
            double sum = 0.0;
            for (const float v : r.audio.channel(0)) sum += double(v) * double(v);
            return sum;
        };
        const auto heard = b.cab().audition();
        RenderCache& cache = *b.window.session().renders();
        const auto apart = renderSound(heard.slots_[0].sound, 3.0, 6.0, cache).value(),
                   met = renderSound(heard.slots_[1].sound, 3.0, 6.0, cache).value();
        QVERIFY2(10.0 * std::log10(power(*met) / power(*apart)) > 3.0,
                 qPrintable(QString::number(10.0 * std::log10(power(*met) / power(*apart)))));

        b.click("alignUndo");
        QCOMPARE(b.layer(1).earlierMs, 0.0);
        QVERIFY(!b.layer(1).isInverted);
        b.window.session().undoStack().undo();
        QVERIFY(b.layer(1).isInverted);
        b.window.session().undoStack().undo();
        QVERIFY(!b.layer(1).isInverted);
    }

    /// A distance that was measured with a rule is typed; 34.3 cm are a thousandth of a second. Nonsense is refused.
    void movedByHand()
    {
        Open b(demo_);
        const auto type = [&](const QString& text) {
            b.table().item(1, 7)->setText(text);
            b.settle();
            return b.layer(1).earlierMs;
        };
        QVERIFY(std::abs(type("34.3 cm") - 1.0) < 1e-6);
        QCOMPARE(b.cell(1, 7), QString("1.00 ms earlier"));
        QCOMPARE(type("0.25"), 0.25);
        QCOMPARE(type("0.5 ms later"), -0.5);
        QCOMPARE(type("-34.3 cm"), -1.0);
        QCOMPARE(type("a little"), -1.0);
        QVERIFY(b.cell(1, 7).contains("later"));
        QCOMPARE(type("as recorded"), 0.0);
    }

    /// A room microphone whose distance is meant keeps it; another reference turns the figures about.
    void keptLateAndAnotherReference()
    {
        Open b(demo_);
        b.table().item(2, 8)->setCheckState(Qt::Checked);
        b.settle();
        b.click("alignTogether");
        QCOMPARE(b.layer(2).earlierMs, 0.0);
        QVERIFY(b.layer(1).earlierMs > 0.5);
        b.click("alignUndo");
        b.table().selectRow(2);
        b.settle();
        b.click("alignReference");
        QCOMPARE(b.cell(2, 3), QString("reference"));
        QString earlier = b.cell(0, 1);
        earlier.replace(QChar(0x2212), '-');
        QVERIFY2(std::abs(earlier.toDouble() + 1000.0 * 3.07 / 343.0) < 0.1, qPrintable(earlier));
        b.click("alignTogether");
        QVERIFY(b.layer(0).earlierMs < -8.0); // later, to meet the room
        b.click("alignUndo");
    }

    /// Copies as files; and where no folder is chosen, nothing.
    void copies()
    {
        Open b(demo_);
        b.align().askFolder = [] { return QString(); };
        b.click("alignCopies");
        const QString folder = dir_.filePath("moved copies");
        b.align().askFolder = [&] { return folder; };
        b.click("alignCopies");
        QCOMPARE(QDir(folder).entryList({"*.aligned.wav"}).size(), 3);
    }

    /// Two performances of one part have no delay between them; one layer has nobody to agree with.
    void strangersAndOneAlone()
    {
        Open b(demo_);
        b.window.session().setPath({0, 0, 0});
        b.settle();
        QCOMPARE(b.table().rowCount(), 2);
        QCOMPARE(b.cell(1, 3), QString("another take"));
        QVERIFY(b.finds("align.stranger"));
        QCOMPARE(b.cab().state().line, QString("separate takes"));
        QVERIFY(!b.find<QPushButton>("alignTogether")->isEnabled());
        b.window.session().setPath({0, 1, 0});
        b.settle();
        QCOMPARE(b.table().rowCount(), 1);
        QVERIFY(!b.find<QPushButton>("alignTogether")->isEnabled());
        QVERIFY(!b.find<QPushButton>("alignCopies")->isEnabled());
    }
};

QTEST_MAIN(TestCab)
#include "test_cab.moc"
