#pragma once

#include "app/benches/bench.h"
#include "app/shell/dialogs.h"

#include <QElapsedTimer>
#include <QMainWindow>

class QLabel;
class QPushButton;
class QStackedWidget;

namespace gristle::app {

class AuditionBar;
class Exporter;
class Header;
class LogBench;
class Spine;
class StartPage;

class MainWindow : public QMainWindow {
    Q_OBJECT
public:
    explicit MainWindow(QWidget* parent = nullptr);
    ~MainWindow() override;

    SessionModel& session() { return session_; }
    Audition& audition() { return audition_; }
    Capture& capture() { return capture_; }
    Dialogs& dialogs() { return dialogs_; }
    template<typename T> T* bench() const
    {
        for (Bench* b : benches_)
            if (auto* found = qobject_cast<T*>(b)) return found;
        return nullptr;
    }
    void showBench(const QString& name); ///< as the spine has it
    void showBench(int index);           ///< its place in the spine
    QString benchName() const { return benches_[std::size_t(currentBench())]->name(); }
    int currentBench() const;
    const std::vector<Bench*>& benches() const { return benches_; }

    /// A session folder is opened, audio files are brought in (into a new session where none is open).
    void openPaths(const QStringList& paths);
    void bringIn(const QStringList& files);
    Exporter& exporter() { return *exporter_; }
    bool isIdle(); ///< nothing is being measured, rendered or written
    QString notice() const;
    void tell(const QString& message, const QString& remedy);
    /// Before it is shown: takes the place and the bench that were left last time, no larger than the screen, and
    /// remembers them when it closes.
    void restorePlace();

protected:
    void showEvent(QShowEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    void closeEvent(QCloseEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    bool eventFilter(QObject*, QEvent*) override;

private:
    void build();
    void fillSessionMenu();
    void addKeys();
    void wire();
    void refreshPage();
    void refreshFindings();
    void requestAudition();
    void offer(const QString& message, const QString& remedy, const std::function<void()>& act);
    void hideNotice();
    void openSession(const QString& folder);
    void openDemo();
    void fitScreen();
    void askNewSession();
    void askOpenSession();
    void goTo();
    void editSong();
    void printSheet();
    void setLoopEnd(bool start);

    SessionModel session_;
    Audition audition_{session_.renders()};
    Capture capture_{session_, audition_};
    Dialogs dialogs_;
    std::vector<Bench*> benches_;
    Header* header_;
    Spine* spine_;
    QStackedWidget* pages_;
    QStackedWidget* stack_;
    FindingsPanel* findings_;
    AuditionBar* bar_;
    StartPage* start_;
    QWidget* noticeRow_;
    QLabel* notice_;
    QPushButton* noticeAct_;
    std::function<void()> act_; ///< what the notice offers
    QElapsedTimer noticed_;
    bool remembersPlace_ = false, isFitted_ = false;
    QString wantedBench_; ///< shown when a session opens
    TaskRunner demoTask_;
    Exporter* exporter_;
    QTimer auditionTimer_;
    QTimer lookTimer_; ///< the spine and the findings
};

} // namespace gristle::app
