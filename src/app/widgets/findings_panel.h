#pragma once

#include "core/advice/finding.h"

#include <QScrollArea>
#include <functional>
#include <map>

class QVBoxLayout;
class QLabel;

namespace gristle::app {

/// A remedy that one click applies.
struct RemedyAction {
    QString label;
    std::function<void()> apply;
};
using Remedies = std::map<std::string, RemedyAction>; ///< by the code of the finding

/// The right side: findings of a bench, ranked; each a sentence, a reason, a bar and its remedy.
class FindingsPanel : public QScrollArea {
    Q_OBJECT
public:
    explicit FindingsPanel(QWidget* parent = nullptr);
    void show(const std::vector<core::Finding>& findings, const Remedies& remedies, const QString& whenNone);
    const std::vector<core::Finding>& findings() const { return findings_; }

private:
    void rebuild();
    std::vector<core::Finding> findings_;
    Remedies remedies_;
    QString whenNone_;
    QWidget* inner_;
    QVBoxLayout* layout_;
};

} // namespace gristle::app
