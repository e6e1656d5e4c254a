#pragma once

#include "app/benches/rig/ladder.h"
#include "core/rig/rig_document.h"
#include "support/window_bench.h"

#include <QComboBox>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <fstream>
#include <nlohmann/json.hpp>

namespace gristle::test {

using namespace app;
using namespace core;

/// The demo's rhythm layer on a short loop.
struct RigWindow : WindowBench {
    explicit RigWindow(const QString& demo)
    {
        window.openPaths({demo});
        window.session().setPath({0, 1, 0});
        window.session().loop().set(2.0, 2.5);
        window.showBench("Rig");
        settle();
    }
    SessionModel& session() { return window.session(); }
    RigChain chain() { return session().rigs().inHand().chain; }
    QStringList types()
    {
        QStringList out;
        for (const RigNode& n : chain()) out << QString::fromStdString(n.type);
        return out;
    }
    void click(const char* name) { find<QPushButton>(name)->click(); }
    void type(const char* line, bool isWaited = true)
    {
        auto* edit = find<QLineEdit>("recallLine");
        edit->setText(line);
        emit edit->editingFinished();
        if (isWaited) settle();
    }
    /// A control of the second stage takes another value, which the recall line says and one undo takes back.
    void tryControl(const NodeType& node, const ParameterSpec& spec)
    {
        const auto value = [&] { return valueText(completeValues(node, chain()[1].values).at(spec.key)); };
        const std::string before = value();
        QCoreApplication::sendPostedEvents(nullptr, QEvent::DeferredDelete); // the panels of the stage before
        auto* editor = window.findChild<QWidget*>(QString::fromStdString("control." + spec.key));
        QVERIFY2(editor, spec.key.c_str());
        QVERIFY2(!editor->toolTip().isEmpty() && !editor->accessibleName().isEmpty(), spec.key.c_str());
        if (auto* box = qobject_cast<QComboBox*>(editor)) {
            QVERIFY2(box->count() > 1, spec.key.c_str());
            box->setCurrentIndex((box->currentIndex() + 1) % box->count());
            emit box->activated(box->currentIndex());
        } else {
            auto* line = qobject_cast<QLineEdit*>(editor);
            QVERIFY2(line, spec.key.c_str());
            const bool isAtMost = before == valueText(spec.max);
            line->setText(spec.kind == ParameterKind::Time
                              ? QStringLiteral("321ms")
                              : QString::fromStdString(valueText(isAtMost ? spec.min : spec.max)));
            emit line->editingFinished();
        }
        const std::string after = value();
        QVERIFY2(after != before, spec.key.c_str());
        const QString said = QString::fromStdString(spec.key) + "=";
        const bool isUsual = after == valueText(completeValues(node, {}).at(spec.key));
        QVERIFY2(isUsual || find<QLineEdit>("recallLine")->text().section('|', 1).contains(said), spec.key.c_str());
        session().undoStack().undo();
        QCOMPARE(value(), before);
    }
    /// A rig as another session left it.
    std::string save(const RigDocument& rig)
    {
        const std::string file = "rigs/" + rig.name + ".v1.json";
        std::ofstream(session().folder().path() / file) << rigToJson(rig).dump(2);
        return file;
    }
    QAction* action(const char* menu, const QString& text)
    {
        QAction* found = in(*find<QPushButton>(menu)->menu(), text);
        if (!found) qFatal("no action %s", qPrintable(text));
        return found;
    }
    static QAction* in(const QMenu& menu, const QString& text)
    {
        for (QAction* a : menu.actions()) {
            QAction* found = a->menu() ? in(*a->menu(), text) : a->text() == text ? a : nullptr;
            if (found) return found;
        }
        return nullptr;
    }
    /// What the ladder says of a stage, dBu.
    double dbu(const QString& stage)
    {
        for (const QString& said : find<Ladder>("ladder")->accessibleDescription().split(", "))
            if (said.startsWith(stage + " ")) return said.section(' ', -2, -2).toDouble();
        qFatal("the ladder says nothing of %s", qPrintable(stage));
    }
};

} // namespace gristle::test
