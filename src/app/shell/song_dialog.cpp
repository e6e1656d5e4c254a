#include "app/shell/song_dialog.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QDoubleSpinBox>
#include <QFormLayout>
#include <QLineEdit>

namespace gristle::app {

SongDialog::SongDialog(const core::Song& song, QWidget* parent) : QDialog(parent)
{
    setObjectName("songDialog");
    setWindowTitle(tr("Song"));
    auto* form = new QFormLayout(this);
    form->setContentsMargins(22, 18, 22, 16);
    const auto add = [&](const QString& label, QWidget* field, const char* name) {
        field->setObjectName(name);
        field->setAccessibleName(label);
        form->addRow(label, field);
    };
    name_ = new QLineEdit(QString::fromStdString(song.name), this);
    add(tr("name"), name_, "song.name");
    tempo_ = new QDoubleSpinBox(this);
    tempo_->setRange(20.0, 400.0);
    tempo_->setDecimals(2);
    tempo_->setSuffix(tr(" BPM"));
    tempo_->setToolTip(tr("Quarter notes a minute, in every meter"));
    tempo_->setValue(song.tempoBpm);
    add(tr("tempo"), tempo_, "song.tempo");
    meter_ = new QComboBox(this);
    meter_->addItems({"4/4", "3/4", "6/8", "2/4", "5/4", "7/8", "12/8"});
    if (meter_->findText(QString::fromStdString(song.meter)) < 0) meter_->addItem(QString::fromStdString(song.meter));
    meter_->setCurrentText(QString::fromStdString(song.meter));
    add(tr("meter"), meter_, "song.meter");
    tuning_ = new QLineEdit(QString::fromStdString(song.tuning), this);
    add(tr("tuning"), tuning_, "song.tuning");
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    form->addRow(buttons);
}

void SongDialog::apply(core::Song& song) const
{
    if (!name_->text().trimmed().isEmpty()) song.name = name_->text().trimmed().toStdString();
    song.tempoBpm = tempo_->value();
    song.meter = meter_->currentText().toStdString();
    song.tuning = tuning_->text().trimmed().toStdString();
}

} // namespace gristle::app
