#include "app/benches/level/simulated_player.h"

#include "app/benches/bench_page.h"

#include <QCheckBox>
#include <QFormLayout>
#include <QLabel>
#include <QPushButton>
#include <QSlider>
#include <QSpinBox>

namespace gristle::app {

namespace {

constexpr int kSteps = 10; // of a slider, for each number on a knob
constexpr double kPadDb = 20.0;

} // namespace

SimulatedPlayerDialog::SimulatedPlayerDialog(Capture& capture, QWidget* parent) : QDialog(parent), capture_(capture)
{
    setObjectName("simulatedPlayer");
    setWindowTitle(tr("The simulated player"));
    auto* form = new QFormLayout(this);
    auto* about = new QLabel(tr("He stands in for a guitar and an interface. Turn his controls, or make something go "
                                "wrong, and see what Gristle says."),
                             this);
    about->setWordWrap(true);
    about->setProperty("tone", "2");
    form->addRow(about);
    volume_ = slider("playerVolume", tr("Volume control of his guitar"), 10 * kSteps);
    tone_ = slider("playerTone", tr("Tone control of his guitar"), 10 * kSteps);
    angle_ = slider("playerAngle", tr("Which way he turns his body: the hum depends on it"), 180);
    form->addRow(tr("guitar volume"), volume_);
    form->addRow(tr("guitar tone"), tone_);
    form->addRow(tr("body turned"), angle_);
    for (QSlider* s : {volume_, tone_}) connect(s, &QSlider::valueChanged, this, [this] { turnGuitar(); });
    connect(angle_, &QSlider::valueChanged, this, [this](int degrees) {
        if (auto* room = capture_.player().room()) room->setAngleDeg(degrees);
    });
    plays_ = tick("playerPlays", tr("he plays"), tr("Otherwise he mutes the strings"),
                  [](auto& room, bool on) { room.setPlaying(on); });
    highImpedance_ = tick("playerHighImpedance", tr("high-impedance switch is on"),
                          tr("1 megohm for a guitar; off, the 10 kilohms of a line input"),
                          [](auto& room, bool on) { room.setHighImpedance(on); });
    pad_ = tick("playerPad", tr("pad of 20 dB is in"), tr("The input's pad, as for a loud line"),
                [](auto& room, bool on) { room.setPadDb(on ? kPadDb : 0.0); });
    swapped_ = tick("playerSwapped", tr("inputs 1 and 2 are swapped"), tr("The plugs stand in each other's socket"),
                    [](auto& room, bool on) { room.setSwapped(on); });
    pulled_ = tick("playerPulled", tr("the plug is pulled"), tr("Nothing but the input's own noise comes in"),
                   [](auto& room, bool on) { room.setSilent(on); });
    for (QCheckBox* t : {plays_, highImpedance_, pad_, swapped_, pulled_}) form->addRow(QString(), t);
    drags_ = named(new QSpinBox(this), "playerDrags", tr("The bar in which he comes in late, from the next take on"));
    drags_->setRange(0, 64);
    drags_->setSpecialValueText(tr("in none"));
    drags_->setPrefix(tr("in bar "));
    connect(drags_, &QSpinBox::valueChanged, this, [this](int bar) { capture_.player().setDrag(bar); });
    form->addRow(tr("he drags"), drags_);
    auto* lose = named(new QPushButton(tr("Lose a block"), this), "playerLose",
                       tr("The next block is lost, as under too much work"));
    auto* unplug = named(new QPushButton(tr("Unplug the interface"), this), "playerUnplug",
                         tr("The device itself goes, as when its cable is pulled"));
    connect(lose, &QPushButton::clicked, this, [this] {
        if (auto* room = capture_.player().room()) room->loseOnce();
    });
    connect(unplug, &QPushButton::clicked, this, [this] {
        if (auto* room = capture_.player().room()) room->unplugDevice();
    });
    auto* faults = new QHBoxLayout;
    faults->addWidget(lose);
    faults->addWidget(unplug);
    form->addRow(tr("faults"), faults);
    connect(&capture_, &Capture::changed, this, &SimulatedPlayerDialog::refresh);
    refresh();
}

QSlider* SimulatedPlayerDialog::slider(const char* name, const QString& about, int most)
{
    auto* out = named(new QSlider(Qt::Horizontal, this), name, about);
    out->setRange(0, most);
    out->setMinimumWidth(220);
    return out;
}

QCheckBox* SimulatedPlayerDialog::tick(const char* name, const QString& text, const QString& about,
                                       std::function<void(engine::SimulatedRoom&, bool)> act)
{
    auto* out = named(new QCheckBox(text, this), name, about);
    connect(out, &QCheckBox::clicked, this, [this, act = std::move(act)](bool on) {
        if (auto* room = capture_.player().room()) act(*room, on);
    });
    return out;
}

void SimulatedPlayerDialog::turnGuitar()
{
    auto* room = capture_.player().room();
    if (!room || !room->guitar()) return;
    core::GuitarCircuit guitar = *room->guitar();
    guitar.controls.volume = double(volume_->value()) / kSteps;
    guitar.controls.tone = double(tone_->value()) / kSteps;
    room->setGuitar(guitar);
}

/// What the room of the device in hand is set to; another device has another room.
void SimulatedPlayerDialog::refresh()
{
    const auto* room = capture_.player().room();
    setEnabled(capture_.isOpen() && room && room->guitar());
    if (!room || !room->guitar()) return;
    const core::GuitarControls& c = room->guitar()->controls;
    const auto show = [](QSlider* s, double value) {
        const QSignalBlocker quiet(s);
        s->setValue(int(std::lround(value)));
    };
    show(volume_, c.volume * kSteps);
    show(tone_, c.tone * kSteps);
    show(angle_, room->angleDeg());
    const QSignalBlocker quiet(drags_);
    drags_->setValue(capture_.player().drag());
    plays_->setChecked(room->isPlaying());
    highImpedance_->setChecked(room->isHighImpedance());
    pad_->setChecked(room->padDb() > 0.0);
    swapped_->setChecked(room->isSwapped());
    pulled_->setChecked(room->isSilent());
}

} // namespace gristle::app
