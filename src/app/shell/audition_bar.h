#pragma once

#include "app/models/audition.h"
#include "app/models/session_model.h"

#include <QWidget>

class QHBoxLayout;
class QLabel;
class QPushButton;
class QDoubleSpinBox;

namespace gristle::app {

/// Loudness and correlation of the output: one bar a side.
class OutputMeter : public QWidget {
    Q_OBJECT
public:
    OutputMeter(Audition& audition, QWidget* parent);

protected:
    void paintEvent(QPaintEvent*) override;

private:
    Audition& audition_;
};

/// The bottom: hear and stop, the loop by bars, the slots with their matching gain, what comes out, and work in
/// progress.
class ProgressLine;

class AuditionBar : public QWidget {
    Q_OBJECT
public:
    AuditionBar(SessionModel& session, Audition& audition, QWidget* parent);
    void watch(TaskRunner& task); ///< shows its progress and a way to stop it

signals:
    void hear();

private:
    void refresh();
    void rebuildSlots();
    void refreshTask();

    QString keptText() const;

    SessionModel& session_;
    Audition& audition_;
    QPushButton* hear_;
    QLabel *subject_, *matching_, *taskTitle_;
    QDoubleSpinBox *from_, *to_;
    QWidget *slotRow_, *taskRow_;
    QHBoxLayout* slotLayout_;
    std::vector<QPushButton*> slotButtons_;
    ProgressLine* progress_;
    QPushButton* cancel_;
    std::vector<TaskRunner*> tasks_;
};

} // namespace gristle::app
