#pragma once

#include "app/models/session_task.h"
#include "app/tasks/task_runner.h"
#include "core/advice/double_findings.h"
#include "core/mix/render/layer_source.h"
#include "core/session/session_document.h"
#include "core/timing/phrases.h"

#include <QObject>

namespace gristle::app {

class SessionModel;

/// Two layers of the part in hand as they are heard, dry, note by note: what they make together, and what would mend
/// it. Compared in the background whenever one of them changes. GUI thread.
class DoubleBook : public QObject {
    Q_OBJECT
public:
    explicit DoubleBook(SessionModel& session, QObject* parent = nullptr);
    ~DoubleBook() override;

    /// Layers of the part, by their index; none where there are not two with a take.
    std::optional<std::size_t> first() const { return first_; }
    std::optional<std::size_t> second() const { return second_; }
    void choose(std::size_t first, std::size_t second);

    const std::optional<core::DoubleTake>& pair() const { return pair_; }
    const std::shared_ptr<const core::TakeMeasure>& secondMeasure() const { return measure_; }
    const std::vector<core::StrayBar>& strays() const { return strays_; }
    const std::vector<core::Phrase>& phrases() const { return phrases_; }
    const std::vector<core::Finding>& findings() const { return findings_; }
    QString trouble() const { return trouble_; }
    /// One performance by several microphones: the same on layers that are not on two sides. Nothing is wrong with
    /// that.
    bool isOnePerformance() const;
    bool isKept() const; ///< somebody listened and let it be, and neither side has changed since
    bool isBusy() const { return task_.isBusy(); }
    QString name(std::optional<std::size_t> layer) const;
    /// Layers that are the DIs of the two, where these are driven: notes and tuning are told by them.
    std::optional<std::size_t> firstDi() const { return firstDi_; }
    std::optional<std::size_t> secondDi() const { return secondDi_; }
    core::LayerPath path(std::size_t layer) const;

    /// Bars that stray and follow each other, and by how much they do; none where no bar does.
    struct StrayStretch {
        int firstBar = 1, lastBar = 1;
        double offsetMs = 0.0;
    };
    std::optional<StrayStretch> worstStray() const;

    // remedies, each one undoable step
    void moveSide();                                          ///< the whole second side by the median
    bool moveBars(int firstBar, int lastBar, double laterMs); ///< false where there is no place to cut
    int movePhrases();                                        ///< those over 6 ms off, each by its median; how many
    int retunePhrases();                                      ///< those over 3 cents off, by 12 cents at most; how many
    void takeMovesBack();                                     ///< of the second layer
    void keep();                                              ///< as it is: nothing more is to be mended
    bool hasMoves() const;

signals:
    void changed();
    void failed(const QString& message, const QString& remedy);

private:
    void look();
    void pickSides();
    const core::Layer* layer(std::optional<std::size_t> index) const;

    SessionModel& session_;
    SessionTask task_{session_};
    std::optional<std::size_t> first_, second_, firstDi_, secondDi_;
    core::LayerPath part_{9999, 9999, 0}; ///< that the sides are of
    std::string key_, fingerprint_;       ///< of what is compared; without the bounds, short
    std::optional<core::DoubleTake> pair_;
    std::shared_ptr<const core::TakeMeasure> measure_;
    std::vector<core::StrayBar> strays_;
    std::vector<core::Phrase> phrases_;
    std::vector<core::Finding> findings_;
    QString trouble_;
};

} // namespace gristle::app
