#pragma once

#include "app/models/audition.h"
#include "app/models/capture.h"
#include "app/models/session_model.h"
#include "app/widgets/findings_panel.h"

#include <QWidget>

namespace gristle::app {

/// What every bench is given.
struct BenchContext {
    SessionModel& session;
    Audition& audition;
    Capture& capture;
};

/// The state of a bench in the spine: a line of words, and how grave it is.
struct BenchState {
    QString line;
    bool wants = false; ///< something is to be fixed
};

/// What a bench says of what is in hand.
struct BenchFindings {
    std::vector<core::Finding> found;
    QString whenNone; ///< a sentence where nothing was found
};

/// One page of the work: a question, a picture that answers it, few controls. A new bench is a folder with one class
/// derived from this and its line in shell/bench_list.cpp.
class Bench : public QWidget {
    Q_OBJECT
public:
    Bench(const BenchContext& context, QString name, int digit, QWidget* parent)
        : QWidget(parent), context_(context), name_(std::move(name)), digit_(digit)
    {
        setObjectName("bench." + name_.toLower());
        setAccessibleName(name_);
    }
    const QString& name() const { return name_; }
    int digit() const { return digit_; }

    virtual BenchState state() const = 0;
    virtual BenchFindings findings() const = 0;
    /// What one click can do about them, by their codes. Asked for with them, each time.
    virtual Remedies remedies() { return {}; }
    /// What is heard on this bench now.
    virtual AuditionRequest audition() const = 0;
    virtual bool isMonoOffered() const { return false; }
    virtual bool isBusy() const { return false; } ///< something is still being measured

signals:
    void stateChanged();    ///< the spine and the findings should look again
    void auditionChanged(); ///< what is to be heard is another
    void failed(const QString& message, const QString& remedy);

protected:
    SessionModel& session() const { return context_.session; }
    Audition& audition_() const { return context_.audition; }
    Capture& capture() const { return context_.capture; }
    const BenchContext& context() const { return context_; }

private:
    BenchContext context_;
    QString name_;
    int digit_;
};

/// "2 to fix", "1 stops" or nothing.
QString severityLine(const std::vector<core::Finding>& findings);

} // namespace gristle::app
