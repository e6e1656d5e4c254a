#pragma once

#include "app/shell/main_window.h"
#include "engine/simulated/simulated_device.h"

#include <QtTest/QtTest>

namespace gristle::test {

/// A window with a device that is driven by hand, and answers instead of dialogs.
struct WindowBench {
    app::MainWindow window;
    engine::SimulatedDevice* device;
    QString savePath, newPath;

    WindowBench()
    {
        auto own = std::make_unique<engine::SimulatedDevice>(48000.0, 512, engine::SimulatedDevice::Clock::Manual);
        device = own.get();
        window.audition().setDevice(std::move(own));
        window.dialogs().newSession = [this] { return newPath; };
        window.dialogs().importRows = [](std::vector<app::ImportRow> rows) { return rows; };
        window.dialogs().saveFile = [this](const QString&, const QString&, const QString&, QString*) {
            return savePath;
        };
        window.show();
    }
    void settle()
    {
        // The limit is there for what never ends; how long it takes is no matter of a test.
        const QDeadlineTimer limit(240000);
        // Nothing under way for a while: answers and the requests that follow them have come.
        for (int calm = 0; calm < 10; calm = window.isIdle() ? calm + 1 : 0) {
            QVERIFY(!limit.hasExpired());
            QTest::qWait(10);
        }
    }
    template<typename T> T* find(const char* name)
    {
        T* found = window.findChild<T*>(name);
        if (!found) qFatal("no widget named %s", name);
        return found;
    }
};

} // namespace gristle::test
