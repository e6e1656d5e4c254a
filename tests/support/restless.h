#pragma once

#include "app/shell/main_window.h"

#include <QFile>
#include <random>
#include <thread>

namespace gristle::test {

/// Somebody who cannot sit still: random keys, clicks, drags, typing, drops, undo, closing and opening, on every bench
/// and page, through the events of the real window. The same seed does the same things, as far as the machine's timing
/// lets it; what was done is written to a file line by line, so that the last line is there after a death.
class RestlessUser {
public:
    /// @param sessions  folders that are opened and closed
    /// @param files     that are dropped: audio and what is none
    RestlessUser(app::MainWindow& window, std::uint32_t seed, QStringList sessions, QStringList files, QString logFile);
    ~RestlessUser();

    void act(); ///< one action, and the events that follow at once
    void openAgain();
    /// Sessions whose document was another after opening than it was when it was closed.
    const QStringList& lostEdits() const { return lost_; }
    /// The longest that the window's thread worked without coming back to its events, seconds of its own processor time
    /// and of the clock.
    double longestWorkS() const { return longestWorkS_; }
    double longestWallS() const { return longestWallS_; }
    QString slowestAction() const { return slowest_; }

private:
    template<typename T> const T& one(const std::vector<T>& of) { return of[random_() % of.size()]; }
    int upTo(int n) { return n > 0 ? int(random_() % unsigned(n)) : 0; } ///< a widget may have shrunk to nothing
    void say(const QString& what);
    QWidget* inHand();
    QWidget* somewhere();
    void key();
    void click();
    void type();
    void drag();
    void drop();
    void choose();
    void leavePopups(); ///< a menu or a dialog that waits in a loop of its own is answered
    void breathe(int ms);
    void took(double workS, double wallS);
    void watch(std::stop_token stop);

    app::MainWindow& window_;
    std::mt19937 random_;
    QStringList sessions_, files_, lost_;
    QFile log_;
    QObject answers_;                                ///< whom what is posted is posted to
    std::map<QString, core::SessionDocument> known_; ///< as they were last
    QString last_, slowest_;
    double longestWorkS_ = 0.0, longestWallS_ = 0.0;
    int actions_ = 0;
    std::atomic<bool> answerIsDue_{false};
    std::atomic<double> since_{0.0}; ///< when the step under way began
    pthread_t windowThread_{};
    std::jthread watchman_; ///< writes where a step is that takes long
};

} // namespace gristle::test
