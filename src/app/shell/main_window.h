#pragma once

#include "app/benches/bench.h"
#include "app/shell/dialogs.h"

#include <QMainWindow>

class QLabel;
class QStackedWidget;

namespace gristle::app {

class AuditionBar;
class Exporter;
class Header;
class LogBench;
class Spine;

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
    void showBench(int index);
    int currentBench() const;
    const std::vector<Bench*>& benches() const { return benches_; }

    /// A session folder is opened, audio files are brought in (into a new session where none is open).
    void openPaths(const QStringList& paths);
    void bringIn(const QStringList& files);
    Exporter& exporter() { return *exporter_; }
    bool isIdle() const; ///< nothing is being measured, rendered or written
    QString notice() const;

protected:
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
    void tell(const QString& message, const QString& remedy);
    void askNewSession();
    void askOpenSession();
    void goTo();
    void editSong();
    void printSheet();
    void setLoopEnd(bool start);

    SessionModel session_;
    Audition audition_;
    Capture capture_{session_, audition_};
    Dialogs dialogs_;
    std::vector<Bench*> benches_;
    Header* header_;
    Spine* spine_;
    QStackedWidget* pages_;
    QStackedWidget* stack_;
    FindingsPanel* findings_;
    AuditionBar* bar_;
    QLabel* notice_;
    Exporter* exporter_;
    QTimer auditionTimer_;
    QTimer lookTimer_; ///< the spine and the findings
};

} // namespace gristle::app
