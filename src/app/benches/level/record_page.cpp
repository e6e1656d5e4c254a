#include "app/benches/level/record_page.h"

#include "app/benches/level/live_strip.h"
#include "app/benches/level/simulated_player.h"

#include <QActionGroup>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QMenu>
#include <QPushButton>
#include <QShortcut>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kDriftToTellDb = 2.0;
constexpr double kSilentToTellS = 5.0;

QString figure(double v, int digits = 1) { return numberLabel(v, digits); }

} // namespace

RecordPage::RecordPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Record"), tr("Does the level hold while you play?"), parent)
{
    build();
    connect(&capture(), &Capture::changed, this, &RecordPage::refresh);
    connect(&capture(), &Capture::metered, this, &RecordPage::meter);
    connect(&capture(), &Capture::pinged, this, [this](double samples) {
        session().note("interface", tr("Round trip measured over a cable: %1 samples, %2 ms")
                                        .arg(samples, 0, 'f', 2)
                                        .arg(1000.0 * samples / capture().rateHz(), 0, 'f', 2));
    });
    connect(&session(), &SessionModel::documentChanged, this, &RecordPage::refresh);
    connect(&session(), &SessionModel::pathChanged, this, &RecordPage::refresh);
    auto* key = new QShortcut(Qt::Key_R, this);
    connect(key, &QShortcut::activated, this, &RecordPage::toggle);
}

void RecordPage::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    column->addWidget(buildInterfaceRow());
    auto* head = new QHBoxLayout;
    big_ = named(new QLabel(this), "marginLeft", tr("Margin left"));
    big_->setFont(Theme::instance().mono(TextSize::Big, true));
    bigUnit_ = new QLabel(this);
    bigUnit_->setFont(Theme::instance().mono(TextSize::Heading));
    note_ = named(new QLabel(this), "liveNote", tr("The note that sounds"));
    note_->setFont(Theme::instance().mono(TextSize::Heading, true));
    readings_ = named(new QLabel(this), "liveReadings", tr("Readings"));
    readings_->setAlignment(Qt::AlignRight | Qt::AlignBottom);
    head->addWidget(big_);
    head->addWidget(bigUnit_, 1, Qt::AlignBottom);
    head->addWidget(readings_, 0, Qt::AlignBottom);
    column->addLayout(head);
    warning_ = named(new QLabel(this), "liveWarning", tr("Warning while playing"));
    warning_->setFont(Theme::instance().text(TextSize::Normal, true));
    warning_->setWordWrap(true);
    time_ = named(new QLabel(this), "recordTime", tr("Time recorded and room on the disk"));
    time_->setFont(Theme::instance().mono(TextSize::Normal));
    time_->setAlignment(Qt::AlignRight);
    auto* told = new QHBoxLayout;
    told->addWidget(warning_, 1);
    told->addWidget(note_);
    told->addSpacing(24);
    told->addWidget(time_);
    column->addLayout(told);
    strip_ = new LiveStrip(this);
    strip_->setEmptyText(tr("Nothing comes in yet."));
    column->addWidget(strip_, 1);
    column->addWidget(buildFoot());
}

QWidget* RecordPage::buildInterfaceRow()
{
    auto* row = new QWidget(this);
    auto* layout = new QHBoxLayout(row);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(6);
    devices_ = named(new QComboBox(row), "deviceChoice", tr("Interface"));
    devices_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    devices_->setMinimumContentsLength(22);
    inputs_ = named(new QComboBox(row), "inputChoice", tr("Input that the guitar is on"));
    buffers_ = named(new QComboBox(row), "bufferChoice", tr("Frames in a block: fewer, less delay and more work"));
    for (const int frames : {32, 64, 128, 256, 512, 1024}) buffers_->addItem(tr("%1 frames").arg(frames), frames);
    delay_ = named(new QLabel(row), "delayText", tr("Delay from input to ear"));
    delay_->setProperty("tone", "2");
    delay_->setWordWrap(true);
    ping_ = named(new QPushButton(tr("Ping"), row), "ping",
                  tr("Measure the round trip over a cable from an output to the input. Turn monitors and headphones "
                     "down first."));
    for (QWidget* w :
         {static_cast<QWidget*>(devices_), static_cast<QWidget*>(inputs_), static_cast<QWidget*>(buffers_)})
        layout->addWidget(w);
    player_ = named(new QPushButton(tr("Player \u2026"), row), "player",
                    tr("The simulated player's guitar and interface, and faults on demand"));
    connect(player_, &QPushButton::clicked, this, [this] {
        auto* dialog = new SimulatedPlayerDialog(capture(), window());
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        dialog->show();
    });
    layout->addWidget(player_);
    layout->addStretch(1);
    layout->addWidget(delay_);
    layout->addWidget(ping_);
    connect(devices_, &QComboBox::activated, this,
            [this](int i) { capture().chooseDevice(devices_->itemData(i).toString()); });
    connect(inputs_, &QComboBox::activated, this, [this](int i) { capture().setInput(std::size_t(i)); });
    connect(buffers_, &QComboBox::activated, this,
            [this](int i) { capture().chooseBuffer(std::size_t(buffers_->itemData(i).toInt())); });
    connect(ping_, &QPushButton::clicked, this, [this] { capture().ping(); });
    return row;
}

QWidget* RecordPage::buildFoot()
{
    auto* foot = new QWidget(this);
    auto* column = new QVBoxLayout(foot);
    column->setContentsMargins(0, 0, 0, 0);
    auto* row = new QHBoxLayout;
    row->setSpacing(6);
    record_ = named(new QPushButton(tr("Record"), foot), "record", tr("Record a take for this layer, or stop (R)"));
    record_->setProperty("act", true);
    record_->setMinimumWidth(90);
    connect(record_, &QPushButton::clicked, this, &RecordPage::toggle);
    countIn_ = named(new QComboBox(foot), "countIn", tr("Count-in before the recording begins"));
    countIn_->addItems({tr("at once"), tr("after 1 bar"), tr("after 2 bars")});
    connect(countIn_, &QComboBox::activated, this, [this](int bars) { capture().setCountIn(bars); });
    hear_ =
        named(new QComboBox(foot), "hearMyself",
              tr("What you hear of yourself. Over the interface's own direct monitor, Gristle plays nothing of it."));
    hear_->addItems({tr("hear nothing"), tr("hear it dry"), tr("hear the rig"), tr("direct monitor")});
    connect(hear_, &QComboBox::activated, this, [this](int i) { capture().setHear(Hear(i)); });
    hearLevel_ = named(new QDoubleSpinBox(foot), "hearLevel", tr("How loud you hear yourself"));
    hearLevel_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    hearLevel_->setRange(-60.0, 12.0);
    hearLevel_->setDecimals(0);
    hearLevel_->setMaximumWidth(72);
    hearLevel_->setSuffix(tr(" dB"));
    connect(hearLevel_, &QDoubleSpinBox::editingFinished, this,
            [this] { capture().setHearLevelDb(hearLevel_->value()); });
    hold_ =
        named(new QPushButton(tr("Clear peaks"), foot), "clearPeaks", tr("Forget the highest peak and what clipped"));
    connect(hold_, &QPushButton::clicked, this, [this] {
        held_ = -200.0;
        capture().clearClips();
    });
    also_ = named(new QPushButton(foot), "alsoFor",
                  tr("Other layers of this part that are recorded at once: from the same input through another rig, or "
                     "from an input of their own"));
    also_->setMenu(new QMenu(also_));
    connect(also_->menu(), &QMenu::aboutToShow, this, &RecordPage::fillAlso);
    row->addWidget(record_);
    row->addWidget(also_);
    row->addWidget(countIn_);
    row->addStretch(1);
    row->addWidget(hear_);
    row->addWidget(hearLevel_);
    row->addWidget(hold_);
    column->addLayout(row);
    auto* caution = new QLabel(
        tr("Turn monitors and headphones down before you plug, switch phantom power or ping. No phantom power into a "
           "guitar or a passive ribbon; the makers' manuals say what each input bears."),
        foot);
    caution->setProperty("tone", "2");
    caution->setFont(Theme::instance().text(TextSize::Small));
    caution->setWordWrap(true);
    column->addWidget(caution);
    return foot;
}

void RecordPage::fillAlso()
{
    also_->menu()->clear();
    if (!session().part()) return;
    for (const Layer& layer : session().part()->layers) {
        if (&layer == session().layer()) continue;
        QMenu* inputs = also_->menu()->addMenu(QString::fromStdString(layer.name));
        auto* one = new QActionGroup(inputs);
        const auto at = std::ranges::find(capture().also(), layer.name, &AlsoRecord::layer);
        const auto offer = [&](const QString& text, std::optional<std::size_t> input, bool isSo) {
            QAction* action = inputs->addAction(text);
            action->setCheckable(true);
            action->setActionGroup(one);
            action->setChecked(isSo);
            connect(action, &QAction::triggered, this, [this, name = layer.name, input] {
                auto also = capture().also();
                std::erase_if(also, [&](const AlsoRecord& a) { return a.layer == name; });
                if (input) also.push_back({name, *input});
                capture().setAlso(also);
            });
        };
        offer(tr("not now"), std::nullopt, at == capture().also().end());
        for (std::size_t i = 0; i < capture().inputs(); ++i)
            offer(i == capture().input() ? tr("input %1, the same guitar").arg(i + 1) : tr("input %1").arg(i + 1), i,
                  at != capture().also().end() && at->input == i);
    }
}

void RecordPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    if (!session().isOpen()) return;
    capture().tuner().setListening(true);
    capture().lookForDevices();
    refresh();
}

void RecordPage::hideEvent(QHideEvent* event)
{
    BenchPage::hideEvent(event);
    capture().tuner().setListening(false);
}

void RecordPage::refreshDevices()
{
    devices_->clear();
    for (const engine::DeviceInfo& d : capture().devices()) {
        if (d.inputs == 0) continue;
        devices_->addItem(tr("%1 (%2)").arg(QString::fromStdString(d.name), QString::fromStdString(d.system)),
                          QString::fromStdString(d.id));
        if (QString::fromStdString(d.id) == capture().deviceId()) devices_->setCurrentIndex(devices_->count() - 1);
    }
    inputs_->clear();
    for (std::size_t i = 0; i < capture().inputs(); ++i) inputs_->addItem(tr("input %1").arg(i + 1));
    inputs_->setCurrentIndex(int(capture().input()));
    const auto* device = audition_().device();
    const int at = device ? buffers_->findData(int(device->bufferFrames())) : -1;
    buffers_->setCurrentIndex(at);
    if (at < 0 && device) buffers_->setPlaceholderText(tr("%1 frames").arg(device->bufferFrames()));
}

void RecordPage::refresh()
{
    if (!session().isOpen() || !isVisible() || refreshing_) return;
    refreshing_ = true;
    refreshDevices();
    const bool open = capture().isOpen(), busy = capture().isBusy();
    for (QWidget* w : {static_cast<QWidget*>(devices_), static_cast<QWidget*>(inputs_), static_cast<QWidget*>(buffers_),
                       static_cast<QWidget*>(ping_), static_cast<QWidget*>(countIn_)})
        w->setEnabled(!busy);
    player_->setVisible(capture().isSimulated());
    record_->setText(busy ? tr("Stop") : tr("Record"));
    record_->setEnabled(open);
    also_->setVisible(session().part() && session().part()->layers.size() > 1);
    also_->setEnabled(!busy);
    also_->setText(capture().also().empty() ? tr("for this layer")
                                            : tr("for %1 layers").arg(capture().also().size() + 1));
    countIn_->setCurrentIndex(capture().countIn());
    hear_->setCurrentIndex(int(capture().hear()));
    hearLevel_->setValue(capture().hearLevelDb());
    const auto delay = capture().delayMs();
    delay_->setText(delay ? (capture().isDelayMeasured() ? tr("%1 ms to ear, measured") : tr("about %1 ms to ear"))
                                .arg(figure(*delay))
                    : capture().hear() == Hear::Direct ? tr("heard past Gristle, without its delay")
                                                       : QString());
    const bool average = session().document().targetSchool != "peak";
    const double target = average ? session().document().referenceDbfs : -9.0;
    strip_->setTarget(target, average ? 2.0 : 3.0,
                      average ? tr("target: average %1 \u00b1 2").arg(figure(target, 0))
                              : tr("target: peak %1 \u00b1 3").arg(figure(target, 0)));
    strip_->setRecording(capture().isRecording());
    if (!open) {
        big_->setText(QString(QChar(0x2013)));
        bigUnit_->setText(capture().isOpening() ? tr("the interface is being opened")
                                                : tr("no input: choose an interface"));
        readings_->clear();
        warning_->clear();
        time_->clear();
    } else if (capture().isSimulated()) {
        warning_->setText(tr("The simulated interface: a modelled player, no real guitar."));
    }
    refreshing_ = false;
    emit stateChanged();
}

QString RecordPage::noteText(const std::optional<core::Pitch>& pitch)
{
    constexpr double kInTuneCents = 2.0;
    if (!pitch) return {};
    const core::NearestNote note = core::nearestNote(pitch->hz);
    const QString name = QString::fromStdString(note.name);
    if (std::abs(note.cents) < kInTuneCents) return tr("%1 in tune").arg(name);
    return note.cents > 0.0 ? tr("%1 %2 cents sharp").arg(name, figure(note.cents))
                            : tr("%1 %2 cents flat").arg(name, figure(-note.cents));
}

void RecordPage::meter()
{
    if (!isVisible()) return;
    const InputReading& r = capture().meters().reading();
    strip_->push(r);
    held_ = std::max(held_, r.peakDbfs);
    big_->setText(held_ > -120.0 ? figure(-held_) : QString(QChar(0x2013)));
    bigUnit_->setText(held_ >= 0.0 ? tr("dB left: it clipped, turn down") : tr("dB left over the highest peak"));
    const QString small = ink(Token::Ink2).name(), mono = Theme::instance().mono().family();
    const auto strong = [&](const QString& v) {
        return QStringLiteral("<span style='font-family:\"%1\";font-weight:600'>%2</span>").arg(mono, v);
    };
    QString text = tr("averages %1 <span style='color:%2'>dBFS now</span><br>")
                       .arg(strong(r.averageDbfs > -120.0 ? figure(r.averageDbfs) : QString(QChar(0x2013))), small);
    text += tr("peak %1 <span style='color:%2'>dBFS</span> \u00b7 clipped %3<br>")
                .arg(strong(r.peakDbfs > -120.0 ? figure(r.peakDbfs) : QString(QChar(0x2013))), small,
                     strong(QString::number(r.clipped)));
    text += QStringLiteral("<span style='color:%1'>%2</span>")
                .arg(small, tr("%1 Hz \u00b7 24 bit").arg(std::lround(capture().rateHz())));
    QStringList others;
    for (const auto& [input, held] : capture().meters().others())
        others << tr("input %1: %2 dB left")
                          .arg(input + 1)
                          .arg(held.peakDbfs > -120.0 ? figure(-held.peakDbfs) : QString(QChar(0x2013))) +
                      (held.clipped > 0 ? tr(", clipped") : QString());
    if (!others.isEmpty())
        text += QStringLiteral(" <span style='color:%1'>\u00b7 %2</span>").arg(small, others.join(tr(" \u00b7 ")));
    readings_->setText(text);
    note_->setText(noteText(capture().tuner().pitch()));
    QString time;
    if (capture().isCountingIn())
        time = tr("in %1 s").arg(figure(capture().countInLeftS()));
    else if (capture().isRecording())
        time = tr("%1 s recorded").arg(figure(capture().recordedS()));
    if (const auto minutes = capture().minutesLeft())
        time += (time.isEmpty() ? QString() : QStringLiteral(" \u00b7 ")) +
                (*minutes < 1000.0 ? tr("room for %1 min").arg(qlonglong(*minutes))
                                   : tr("room for %1 h").arg(qlonglong(*minutes / 60.0)));
    if (capture().gaps() > 0)
        time += (capture().gaps() == 1 ? tr(" \u00b7 one gap") : tr(" \u00b7 %1 gaps").arg(capture().gaps()));
    time_->setText(time);
    const auto over =
        std::ranges::find_if(capture().meters().others(), [](const auto& o) { return o.second.clipped > 0; });
    if (r.clipped > 0)
        warning_->setText(tr("Clipped: turn the preamp down and play again."));
    else if (over != capture().meters().others().end())
        warning_->setText(tr("Input %1 clipped: turn it down and play again.").arg(over->first + 1));
    else if (capture().meters().silentS() > kSilentToTellS)
        warning_->setText(
            tr("Nothing but noise for a while: is the guitar plugged in, its volume up, and this the right input?"));
    else if (const auto drift = capture().driftDb(); drift && std::abs(*drift) > kDriftToTellDb)
        warning_->setText(tr("%1 dB %2 than the take that counts.")
                              .arg(figure(std::abs(*drift)), *drift > 0.0 ? tr("louder") : tr("softer")));
    else
        warning_->setText(capture().isSimulated() ? tr("The simulated interface: a modelled player, no real guitar.")
                                                  : QString());
}

void RecordPage::toggle()
{
    if (capture().isBusy())
        capture().stop();
    else {
        RunWish plain; // from bar 1 until it is stopped, whatever the Take bench is set to
        plain.shape.countInBars = capture().countIn();
        capture().record(plain);
    }
}

BenchFindings RecordPage::findings() const
{
    const Take* take = session().isOpen() ? session().take() : nullptr;
    return {take ? session().measurements().levelFindings(*take) : std::vector<Finding>{},
            take ? tr("Measuring \u2026") : tr("What you record is measured at once.")};
}

} // namespace gristle::app
