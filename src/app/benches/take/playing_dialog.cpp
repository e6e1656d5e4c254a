#include "app/benches/take/playing_dialog.h"

#include <QDialogButtonBox>
#include <QFormLayout>
#include <QLineEdit>
#include <QSpinBox>

namespace gristle::app {

PlayingDialog::PlayingDialog(const core::PlayingNotes& notes, QWidget* parent) : QDialog(parent)
{
    setObjectName("playingDialog");
    setWindowTitle(tr("How it is played"));
    auto* form = new QFormLayout(this);
    form->setContentsMargins(22, 18, 22, 16);
    const auto line = [&](const QString& label, const std::string& text, const QString& example, const char* name) {
        auto* edit = new QLineEdit(QString::fromStdString(text), this);
        edit->setObjectName(name);
        edit->setAccessibleName(label);
        edit->setPlaceholderText(example);
        edit->setMinimumWidth(240);
        form->addRow(label, edit);
        return edit;
    };
    pick_ = line(tr("played with"), notes.pick, tr("a hard pick, fingers \u2026"), "playing.pick");
    cloth_ = line(tr("cloth over the strings"), notes.cloth, tr("none, at the nut, before the bridge \u2026"),
                  "playing.cloth");
    capo_ = new QSpinBox(this);
    capo_->setObjectName("playing.capo");
    capo_->setAccessibleName(tr("capo"));
    capo_->setRange(0, 24);
    capo_->setSpecialValueText(tr("none"));
    capo_->setPrefix(tr("fret "));
    capo_->setValue(notes.capo);
    form->addRow(tr("capo"), capo_);
    strings_ = line(tr("strings on since"), notes.stringsSince, tr("2026-11-01, new \u2026"), "playing.strings");
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    form->addRow(buttons);
}

core::PlayingNotes PlayingDialog::notes() const
{
    const auto text = [](const QLineEdit* edit) { return edit->text().trimmed().toStdString(); };
    return {text(pick_), text(cloth_), capo_->value(), text(strings_)};
}

QString PlayingDialog::textOf(const core::PlayingNotes& notes)
{
    QStringList out;
    if (!notes.pick.empty()) out << QString::fromStdString(notes.pick);
    if (!notes.cloth.empty()) out << tr("cloth %1").arg(QString::fromStdString(notes.cloth));
    if (notes.capo > 0) out << tr("capo at fret %1").arg(notes.capo);
    if (!notes.stringsSince.empty()) out << tr("strings since %1").arg(QString::fromStdString(notes.stringsSince));
    return out.isEmpty() ? tr("nothing noted") : out.join(QStringLiteral(", "));
}

} // namespace gristle::app
