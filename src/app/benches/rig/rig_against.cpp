#include "app/benches/rig/rig_against.h"

#include "app/models/session_model.h"
#include "app/theme/theme.h"
#include "core/rig/rig_difference.h"

#include <QMenu>

namespace gristle::app {

using namespace core;

RigAgainst::RigAgainst(SessionModel& session, QWidget* parent) : QLabel(parent), session_(session)
{
    setProperty("tone", "2");
    setObjectName("rigAbout");
    setWordWrap(true);
    setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
    setFocusPolicy(Qt::NoFocus);
    others_ = new QMenu(this);
    others_->setObjectName("otherRigs");
    connect(this, &QLabel::linkActivated, this, [this] {
        fillOthers();
        others_->popup(mapToGlobal(QPoint(0, height())));
    });
}

std::optional<RigAgainst::Other> RigAgainst::other(const RigDocument& rig) const
{
    if (!session_.isOpen() || !session_.layer() || session_.layer()->rig.empty()) return std::nullopt;
    const QString now = QString::fromStdString(session_.layer()->rig);
    QString file = QString::fromStdString(otherFile_);
    if (file.isEmpty() || file == now) {
        if (rig.version <= 1) return std::nullopt;
        file = now.section(".v", 0, -2) + QStringLiteral(".v%1.json").arg(rig.version - 1);
    }
    std::vector<std::string> ignored;
    const auto loaded = session_.folder().loadRig(file.toStdString(), Unknown::Bypass, ignored);
    if (!loaded) return std::nullopt;
    const QString version = tr("v%1").arg(loaded->version);
    return Other{loaded->name == rig.name ? version : QString::fromStdString(loaded->name) + " " + version, *loaded};
}

void RigAgainst::fillOthers()
{
    others_->clear();
    for (const auto& file : session_.folder().rigFiles()) {
        if (session_.layer() && file == session_.layer()->rig) continue;
        const QString name = QString::fromStdString(file).section('/', -1).chopped(5);
        QAction* action = others_->addAction(name.section(".v", 0, -2) + tr(", version ") + name.section(".v", -1));
        connect(action, &QAction::triggered, this, [this, file] {
            otherFile_ = file;
            emit chosen();
        });
    }
}

void RigAgainst::tell(const RigDocument& rig, const QString& more)
{
    constexpr std::size_t kMost = 4;
    QString text = more;
    if (const auto against = other(rig)) {
        const auto found = rigDifference(against->rig, rig);
        QStringList said;
        for (const std::string& d : found)
            if (std::size_t(said.size()) < kMost) said << QString::fromStdString(d).toHtmlEscaped();
        if (found.size() > kMost) said << tr("%1 more").arg(found.size() - kMost);
        setToolTip(QString());
        if (found.size() > kMost) {
            QStringList all;
            for (const std::string& d : found) all << QString::fromStdString(d);
            setToolTip(all.join(QStringLiteral("\n")));
        }
        text = tr("against <a href='other' style='color:%1'>%2</a>: %3")
                   .arg(ink(Token::Ink).name(), against->title.toHtmlEscaped(),
                        said.isEmpty() ? tr("the same sound") : said.join(QStringLiteral("; "))) +
               QStringLiteral(" \u00b7 ") + more;
    }
    setText(text);
    setFont(Theme::instance().text(TextSize::Small));
}

} // namespace gristle::app
