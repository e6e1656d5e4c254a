#include "app/shell/song_dialog.h"

#include "core/session/midi_tempo.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QDoubleSpinBox>
#include <QFormLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

namespace gristle::app {

SongDialog::SongDialog(const core::Song& song, std::function<QString()> askMidi, QWidget* parent)
    : QDialog(parent), askMidi_(std::move(askMidi)), tempos_(song.tempos), meters_(song.meters),
      sections_(song.sections)
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
    reference_ = new QDoubleSpinBox(this);
    reference_->setRange(400.0, 480.0);
    reference_->setDecimals(1);
    reference_->setSuffix(tr(" Hz"));
    reference_->setToolTip(tr("What takes are judged in tune against"));
    reference_->setValue(song.referenceHz);
    add(tr("A4"), reference_, "song.reference");
    map_ = new QLabel(this);
    map_->setWordWrap(true);
    map_->setMinimumWidth(280);
    add(tr("changes"), map_, "song.map");
    auto* row = new QHBoxLayout;
    auto* take = new QPushButton(tr("From a MIDI file \u2026"), this);
    take->setObjectName("song.fromMidi");
    take->setToolTip(
        tr("Takes tempo and meter, with their changes, and its markers as sections, from a standard MIDI file"));
    connect(take, &QPushButton::clicked, this, &SongDialog::takeMap);
    auto* forget = new QPushButton(tr("No changes"), this);
    forget->setObjectName("song.noChanges");
    connect(forget, &QPushButton::clicked, this, [this] {
        tempos_.clear(), meters_.clear();
        tellMap();
    });
    row->addWidget(take);
    row->addWidget(forget);
    form->addRow(QString(), row);
    tellMap();
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    form->addRow(buttons);
}

void SongDialog::takeMap()
{
    const QString file = askMidi_ ? askMidi_() : QString();
    if (file.isEmpty()) return;
    const auto map = core::readTempoMap(file.toStdString());
    if (!map) return map_->setText(QString::fromStdString(map.error().line()));
    tempo_->setValue(map->bpm);
    const QString meter = QString::fromStdString(map->meter);
    if (meter_->findText(meter) < 0) meter_->addItem(meter);
    meter_->setCurrentText(meter);
    tempos_ = map->tempos, meters_ = map->meters;
    if (!map->markers.empty()) sections_.clear();
    for (const auto& m : map->markers) sections_.push_back({m.name, m.quarter});
    tellMap();
}

void SongDialog::tellMap()
{
    QStringList parts;
    if (tempos_.empty() && meters_.empty()) parts << tr("one tempo and one meter throughout");
    if (!tempos_.empty()) parts << (tempos_.size() == 1 ? tr("one of tempo") : tr("%1 of tempo").arg(tempos_.size()));
    if (!meters_.empty()) parts << (meters_.size() == 1 ? tr("one of meter") : tr("%1 of meter").arg(meters_.size()));
    if (!sections_.empty())
        parts << (sections_.size() == 1 ? tr("one section") : tr("%1 sections").arg(sections_.size()));
    map_->setText(parts.join(tr(", ")));
}

void SongDialog::apply(core::Song& song) const
{
    if (!name_->text().trimmed().isEmpty()) song.name = name_->text().trimmed().toStdString();
    song.tempoBpm = tempo_->value();
    song.tempos = tempos_, song.meters = meters_, song.sections = sections_;
    song.referenceHz = reference_->value();
    song.meter = meter_->currentText().toStdString();
    song.tuning = tuning_->text().trimmed().toStdString();
}

} // namespace gristle::app
