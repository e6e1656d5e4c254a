#include "support/restless.h"

#include <QAbstractButton>
#include <QAbstractItemView>
#include <QAbstractSpinBox>
#include <QApplication>
#include <QComboBox>
#include <QDialog>
#include <QDropEvent>
#include <QFileInfo>
#include <QLineEdit>
#include <QMenu>
#include <QMimeData>
#include <QtTest/QtTest>
#include <chrono>
#include <csignal>
#include <ctime>
#include <execinfo.h>
#include <pthread.h>

namespace gristle::test {

using namespace gristle::app;

namespace {

int logHandle = -1;
std::atomic<RestlessUser*> whoAnswers{nullptr}; ///< not in what is posted: the thread sanitizer sees no lock of Qt's

/// Where the window's thread is, into the log: of a step that takes long.
void whereAmI(int)
{
    void* frames[48];
    backtrace_symbols_fd(frames, backtrace(frames, 48), logHandle);
}

double threadSeconds()
{
    timespec now{};
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &now);
    return double(now.tv_sec) + 1e-9 * double(now.tv_nsec);
}

double wallSeconds()
{
    return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

const std::vector<QKeyCombination>& keys()
{
    using namespace Qt;
    static const std::vector<QKeyCombination> all = [] {
        std::vector<QKeyCombination> out;
        for (int digit = 0; digit < 10; ++digit)
            for (int often = 0; often < 2; ++often) out.push_back(Key(Key_0 + digit));
        for (const Key k : {Key_Space,  Key_X,      Key_M,        Key_R,           Key_B,
                            Key_P,      Key_A,      Key_L,        Key_BracketLeft, Key_BracketRight,
                            Key_Return, Key_Tab,    Key_Tab,      Key_Tab,         Key_Backtab,
                            Key_Escape, Key_Delete, Key_Insert,   Key_Backspace,   Key_Home,
                            Key_End,    Key_PageUp, Key_PageDown, Key_F2,          Key_F5})
            out.push_back(k);
        for (const Key k : {Key_Left, Key_Right, Key_Up, Key_Down}) {
            out.push_back(k);
            out.push_back(ShiftModifier | k);
            out.push_back(ControlModifier | k);
        }
        for (const Key k : {Key_Z, Key_Z, Key_Z, Key_Y, Key_D, Key_F, Key_J, Key_L, Key_R, Key_E, Key_W})
            out.push_back(ControlModifier | k);
        out.push_back(ControlModifier | ShiftModifier | Key_Z);
        out.push_back(ControlModifier | ShiftModifier | Key_E);
        return out;
    }();
    return all;
}

const std::vector<QString>& texts()
{
    static const std::vector<QString> all = {"0",
                                             "1",
                                             "-1",
                                             "−12.5",
                                             "999999",
                                             "-1e30",
                                             "nan",
                                             "inf",
                                             "3,5",
                                             "1/8d",
                                             "433ms",
                                             "",
                                             " ",
                                             "0.0001",
                                             "gain db=6 | delay time=1/8 feedback=0.9",
                                             "{ gain db=1 ; gain db=2 } | reverb",
                                             "nonsense key",
                                             "a|b;c{d}",
                                             QString(300, QChar('x')),
                                             QString(40, QChar(0x30AE)),
                                             QStringLiteral("Überfähre ‹Deck› \U0001F3B8"),
                                             QString(QChar(0xD800)),
                                             "../../etc",
                                             "104",
                                             "6/8",
                                             "drop D",
                                             "left",
                                             "100",
                                             "-100",
                                             "L1\tx",
                                             "\"quote\\"};
    return all;
}

} // namespace

RestlessUser::RestlessUser(MainWindow& window, std::uint32_t seed, QStringList sessions, QStringList files,
                           QString logFile)
    : window_(window), random_(seed), sessions_(std::move(sessions)), files_(std::move(files)), log_(logFile)
{
    if (!log_.open(QIODevice::WriteOnly | QIODevice::Truncate))
        qFatal("the log of the restless user cannot be written");
    windowThread_ = pthread_self();
    whoAnswers = this;
    logHandle = log_.handle();
    std::signal(SIGUSR1, whereAmI);
    void* first[1];
    backtrace(first, 1); // loads what it needs now, not in the signal
    watchman_ = std::jthread([this](std::stop_token stop) { watch(stop); });
    const auto keep = [this] { // up to the last edit before it closes, whoever makes it
        const auto& folder = window_.session().folder();
        known_[QString::fromStdString(folder.path().string())] = folder.document();
    };
    QObject::connect(&window_.session(), &SessionModel::opened, &answers_, [this, keep] {
        const auto& folder = window_.session().folder();
        const auto before = known_.find(QString::fromStdString(folder.path().string()));
        if (before != known_.end() && !(before->second == folder.document()))
            lost_ << QStringLiteral("%1 after action %2").arg(before->first).arg(actions_);
        keep();
    });
    QObject::connect(&window_.session(), &SessionModel::documentChanged, &answers_, keep);
}

RestlessUser::~RestlessUser() = default;

void RestlessUser::watch(std::stop_token stop)
{
    constexpr double kLongS = 0.1;
    while (!stop.stop_requested()) {
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
        // Posted and not by a timer: a dialog that waits may have been opened by such an answer itself.
        if (!answerIsDue_.exchange(true))
            QMetaObject::invokeMethod(
                &answers_,
                [] {
                    RestlessUser* user = whoAnswers.load();
                    user->answerIsDue_ = false;
                    user->leavePopups();
                },
                Qt::QueuedConnection);
        const double since = since_.load();
        if (since > 0.0 && wallSeconds() - since > kLongS) {
            since_.store(0.0); // once a step
            pthread_kill(windowThread_, SIGUSR1);
        }
    }
}

void RestlessUser::say(const QString& what)
{
    last_ = what;
    log_.write(QStringLiteral("%1 %2\n").arg(actions_).arg(what).toUtf8());
    log_.flush();
}

/// The window that has the word: a dialog where one is open.
QWidget* RestlessUser::inHand()
{
    if (QWidget* popup = QApplication::activePopupWidget()) return popup;
    if (QWidget* modal = QApplication::activeModalWidget()) return modal;
    return &window_;
}

QWidget* RestlessUser::somewhere()
{
    std::vector<QWidget*> seen;
    for (QWidget* w : inHand()->findChildren<QWidget*>())
        if (w->isVisible() && w->width() > 2 && w->height() > 2) seen.push_back(w);
    return seen.empty() ? inHand() : one(seen);
}

void RestlessUser::key()
{
    const QKeyCombination combination = one(keys());
    QWidget* target = inHand()->focusWidget();
    if (!target) target = inHand();
    say("key " + QKeySequence(combination).toString() + " at " + target->objectName());
    QTest::keyClick(target, combination.key(), combination.keyboardModifiers());
}

void RestlessUser::click()
{
    QWidget* target = somewhere();
    const QPoint at(upTo(target->width()), upTo(target->height()));
    say(QStringLiteral("click %1 %2 at %3, %4")
            .arg(target->metaObject()->className(), target->objectName())
            .arg(at.x())
            .arg(at.y()));
    if (upTo(12) == 0)
        QTest::mouseDClick(target, Qt::LeftButton, {}, at);
    else
        QTest::mouseClick(target, upTo(20) == 0 ? Qt::RightButton : Qt::LeftButton, {}, at);
}

void RestlessUser::type()
{
    std::vector<QWidget*> editors;
    for (QWidget* w : inHand()->findChildren<QWidget*>())
        if (w->isVisible() && w->isEnabled() && (qobject_cast<QLineEdit*>(w) || qobject_cast<QAbstractSpinBox*>(w)))
            editors.push_back(w);
    if (editors.empty()) return key();
    QWidget* target = one(editors);
    const QString& text = one(texts());
    say("type " + text.left(40) + " into " + target->objectName());
    target->setFocus();
    QTest::keyClick(target, Qt::Key_A, Qt::ControlModifier);
    QKeyEvent typed(QEvent::KeyPress, 0, Qt::NoModifier, text); // any character, also those without a key
    QApplication::sendEvent(target, &typed);
    if (upTo(4) > 0) QTest::keyClick(target, upTo(5) == 0 ? Qt::Key_Escape : Qt::Key_Return);
}

void RestlessUser::drag()
{
    QPointer<QWidget> target = somewhere();
    const auto at = [&] { return QPoint(upTo(target->width()), upTo(target->height())); };
    say("drag " + QString::fromLatin1(target->metaObject()->className()) + " " + target->objectName());
    QTest::mousePress(target, Qt::LeftButton, {}, at());
    for (int i = 0; i < 4 && target; ++i) {
        const QPoint to = at();
        QMouseEvent move(QEvent::MouseMove, to, target->mapToGlobal(to), Qt::NoButton, Qt::LeftButton, {});
        QApplication::sendEvent(target, &move);
        if (upTo(6) == 0) breathe(5);
    }
    if (target) QTest::mouseRelease(target, Qt::LeftButton, {}, at());
}

void RestlessUser::drop()
{
    QMimeData data;
    QList<QUrl> urls;
    for (int i = 0, n = 1 + upTo(3); i < n; ++i) urls << QUrl::fromLocalFile(files_[upTo(int(files_.size()))]);
    if (upTo(4) == 0) urls = {QUrl::fromLocalFile(sessions_[upTo(int(sessions_.size()))])};
    data.setUrls(urls);
    say("drop " + urls.front().toString());
    QDropEvent event(QPointF(400, 300), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(&window_, &event);
}

void RestlessUser::choose()
{
    std::vector<QComboBox*> boxes;
    std::vector<QAbstractItemView*> tables;
    for (QWidget* w : inHand()->findChildren<QWidget*>()) {
        if (!w->isVisible() || !w->isEnabled()) continue;
        if (auto* box = qobject_cast<QComboBox*>(w); box && box->count() > 0) boxes.push_back(box);
        if (auto* table = qobject_cast<QAbstractItemView*>(w);
            table && table->model() && table->model()->rowCount() > 0)
            tables.push_back(table);
    }
    if (!boxes.empty() && (tables.empty() || upTo(2) == 0)) {
        QComboBox* box = one(boxes);
        const int index = upTo(box->count());
        say(QStringLiteral("choose %1 of %2").arg(index).arg(box->objectName()));
        box->setCurrentIndex(index);
        emit box->activated(index);
    } else if (!tables.empty()) {
        QAbstractItemView* table = one(tables);
        const auto* model = table->model();
        const QModelIndex cell = model->index(upTo(model->rowCount()), upTo(std::max(1, model->columnCount())));
        say(QStringLiteral("cell %1, %2 of %3").arg(cell.row()).arg(cell.column()).arg(table->objectName()));
        table->setCurrentIndex(cell);
        if (cell.isValid() && cell.flags().testFlag(Qt::ItemIsEditable) && upTo(2) == 0)
            table->model()->setData(cell, one(texts()), Qt::EditRole);
        else if (cell.isValid() && cell.flags().testFlag(Qt::ItemIsUserCheckable) && upTo(2) == 0)
            table->model()->setData(cell, Qt::Checked, Qt::CheckStateRole);
    }
}

void RestlessUser::leavePopups()
{
    QWidget* popup = QApplication::activePopupWidget();
    if (!popup) popup = QApplication::activeModalWidget();
    if (!popup) return;
    QPointer<QWidget> target = popup->focusWidget() ? popup->focusWidget() : popup;
    if (upTo(3) == 0) QTest::keyClick(target.data(), upTo(2) == 0 ? Qt::Key_Down : Qt::Key_Tab);
    if (target && upTo(3) == 0) QTest::keyClick(target.data(), upTo(2) == 0 ? Qt::Key_Return : Qt::Key_Escape);
}

void RestlessUser::breathe(int ms)
{
    const double work = threadSeconds(), wall = wallSeconds();
    since_.store(wall);
    QCoreApplication::processEvents(QEventLoop::AllEvents);
    took(threadSeconds() - work, wallSeconds() - wall);
    if (ms > 0) QTest::qWait(ms);
}

void RestlessUser::took(double workS, double wallS)
{
    since_.store(0.0);
    constexpr double kWorthTellingS = 0.1;
    if (workS > kWorthTellingS) log_.write(QStringLiteral("   took %1 s\n").arg(workS, 0, 'f', 2).toUtf8());
    if (workS > longestWorkS_) longestWorkS_ = workS, slowest_ = last_;
    longestWallS_ = std::max(longestWallS_, wallS);
}

void RestlessUser::openAgain()
{
    const QString& next = sessions_[upTo(int(sessions_.size()))];
    say("open " + QFileInfo(next).fileName());
    window_.openPaths({next});
}

void RestlessUser::act()
{
    ++actions_;
    const double work = threadSeconds(), wall = wallSeconds();
    since_.store(wall);
    const int kind = upTo(100);
    if (!window_.session().isOpen() && upTo(3) == 0)
        openAgain();
    else if (kind < 40)
        key();
    else if (kind < 66)
        click();
    else if (kind < 76)
        type();
    else if (kind < 86)
        choose();
    else if (kind < 92)
        drag();
    else if (kind < 93)
        drop();
    else if (kind < 95)
        QTest::keyClick(&window_, Qt::Key_Z, Qt::ControlModifier);
    else if (kind == 95)
        window_.resize(1024 + upTo(600), 700 + upTo(400));
    else if (kind == 96 && upTo(4) == 0) {
        say("close");
        window_.session().close();
    } else if (kind == 97 && upTo(4) == 0)
        openAgain();
    took(threadSeconds() - work, wallSeconds() - wall);
    breathe(upTo(8) == 0 ? upTo(60) : 0);
}

} // namespace gristle::test
