#pragma once

#include "core/session/session_document.h"

#include <QObject>
#include <QTimer>
#include <functional>
#include <vector>

namespace gristle::app {

class MainWindow;

/// Walks through the benches of the open session, leaves a picture of each in a folder, and the mix and recall sheet
/// too. For a machine without a screen, and for the pictures in docs/.
class Tour : public QObject {
    Q_OBJECT
public:
    Tour(MainWindow& window, const QString& folder);
    void start() { timer_.start(); }

signals:
    void finished(bool good);

private:
    void look();
    core::LayerPath microphones() const;
    void checkStep(double seconds, bool toItsEnd = true);
    void keepGains();
    void recordTake(std::uint32_t seed, int lateBar);
    void shoot(const QString& name);
    MainWindow& window_;
    QString folder_;
    std::vector<std::function<void()>> steps_;
    std::size_t next_ = 0;
    int calm_ = 0;
    bool good_ = true;
    QTimer timer_;
};

} // namespace gristle::app
