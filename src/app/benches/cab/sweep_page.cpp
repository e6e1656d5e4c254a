#include "app/benches/cab/sweep_page.h"

#include "app/benches/cab/compare_plot.h"
#include "app/benches/cab/impulse_use.h"
#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"
#include "app/widgets/progress_line.h"
#include "core/actions/capture_files.h"
#include "core/advice/impulse_findings.h"
#include "core/audio/audio_writer.h"
#include "core/impulse/impulse_difference.h"
#include "engine/simulated/simulated_device.h"

#include <QComboBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>
#include <fmt/format.h>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kInput, kName, kPeak, kArrives, kSnr, kDistortion, kSays, kColumns };
constexpr std::size_t kFirstMicrophone = 2; // of the simulated interface: inputs 3 and on
constexpr double kMicrophonePreampDb = 20.0;
constexpr double kQuieterDb = 24.0;
constexpr double kMostPeakDbfs = -1.0, kLeastPeakDbfs = -50.0;

/// The simulated interface's amplifier is heard by the microphones of the page Place.
Outcome standMicrophones(engine::AudioDevice& device, const CabPlan& plan)
{
    auto* simulated = dynamic_cast<engine::SimulatedDevice*>(&device);
    if (!simulated || !simulated->room()) return Done{};
    engine::SimulatedRoom& room = *simulated->room();
    const auto setting = settingOf(plan);
    if (!setting) return setting.error();
    engine::CabRoom::Setup setup;
    setup.rateHz = device.rateHz();
    setup.setting = *setting;
    setup.cabinet = plan.cabinet;
    setup.microphones = plan.microphones;
    const std::size_t free = room.inputs() > kFirstMicrophone ? room.inputs() - kFirstMicrophone : 0;
    if (setup.microphones.size() > free) setup.microphones.resize(free);
    for (PlacedMicrophone& m : setup.microphones) m.gainDb = m.delayMs = 0.0, m.invert = false; // those are of the sum
    const engine::CabRoom* now = room.cab();
    if (now && now->setup().microphones == setup.microphones && now->setup().setting.room == plan.room &&
        now->setup().cabinet == plan.cabinet)
        return Done{};
    auto cab = engine::CabRoom::make(std::move(setup));
    if (!cab) return cab.error();
    room.setCab(std::move(*cab), kFirstMicrophone, kMicrophonePreampDb);
    return Done{};
}

} // namespace

SweepPage::SweepPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Capture"), tr("What does the cabinet do?"), parent)
{
    const QString audio = tr("Audio (*.wav *.flac *.aif *.aiff *.w64)");
    askSweep = [=, this] { return QFileDialog::getOpenFileName(this, tr("The sweep that was played"), {}, audio); };
    askRecordings = [=, this] { return QFileDialog::getOpenFileNames(this, tr("What was recorded of it"), {}, audio); };
    askSave = [=, this] {
        return QFileDialog::getSaveFileName(this, tr("Write the sweep"), "sweep.wav", tr("WAV (*.wav)"));
    };
    build();
    connect(&capture(), &Capture::changed, this, &SweepPage::refresh);
    connect(&session(), &SessionModel::documentChanged, this, &SweepPage::refresh);
    connect(&capture().deviceTask(), &TaskRunner::progressed, progress_, &ProgressLine::setPart);
    connect(&session(), &SessionModel::closing, this, [this] {
        capture().stopDeviceWork();
        capture().deviceTask().waitForDone();
        files_.waitForDone();
        run_.reset();
        of_.clear();
    });
    connect(&Theme::instance(), &Theme::changed, this, &SweepPage::refresh);
}

void SweepPage::build()
{
    auto* column = layOut("sweepSentence", sentence_);

    table_ = new QTableWidget(0, kColumns, this);
    table_->setObjectName("sweepTable");
    table_->setAccessibleName(tr("Inputs: what stands before them and what they gave"));
    layOutTable(*table_,
                {tr("input"), tr("microphone"), tr("peak, dBFS"), tr("arrives, ms"), tr("over noise, dB"),
                 tr("distortion, %"), QString()},
                {kPeak, kArrives, kSnr, kDistortion});
    shareByContent(table_);
    connect(table_, &QTableWidget::cellChanged, this, [this](int row, int col) {
        if (refreshing_ || row < 0 || !fileNames_.isEmpty()) return;
        const auto input = std::size_t(row);
        if (col == kInput) {
            areInputsChosen_ = true;
            if (table_->item(row, col)->checkState() == Qt::Checked)
                inputs_.insert(input);
            else
                inputs_.erase(input);
            refresh();
        } else if (col == kName) {
            names_[input] = table_->item(row, col)->text().trimmed();
        }
    });
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        if (!refreshing_) tell();
    });
    column->addWidget(table_, 2);

    auto* settings = addRow(column, 0);
    const auto figure = [&](const QString& label, const QString& unit, const char* name, double low, double high,
                            int digits, double value) {
        auto* b = new FigureBox(label, unit, name, low, high, digits, this);
        b->setValue(value);
        connect(b, &FigureBox::changed, this, &SweepPage::refresh);
        settings->addWidget(b);
        return b;
    };
    seconds_ = figure(tr("sweep"), tr("s"), "sweepSeconds", 1.0, 60.0, 0, 5.0);
    times_ = figure(tr("times"), {}, "sweepTimes", 1.0, 16.0, 0, 2.0);
    level_ = figure(tr("at"), tr("dBFS"), "sweepLevel", -60.0, 0.0, 0, -12.0);
    length_ = figure(tr("keep"), tr("ms"), "sweepLength", 20.0, 5000.0, 0, 300.0);
    side_ = named(new QComboBox(this), "sweepSide", tr("Which output plays it"));
    side_->addItems({tr("both outputs"), tr("left output"), tr("right output")});
    settings->addWidget(side_);
    settings->addStretch(1);

    auto* row = addRow(column);
    quiet_ = addButton(row, tr("Try quietly"), "sweepQuiet", tr("Once, 24 dB under the level, to see what arrives"),
                       [this] { play(true); });
    sweep_ = addButton(row, tr("Sweep"), "sweepGo", tr("At the level; after a quiet one has shown that nothing clips"),
                       [this] { play(false); });
    stop_ = addButton(row, tr("Stop"), "sweepStop", tr("Fades out at once"), [this] { capture().stopDeviceWork(); });
    progress_ = new ProgressLine(this);
    QSizePolicy stays(progress_->sizePolicy());
    stays.setRetainSizeWhenHidden(true); // so that the buttons do not move
    progress_->setSizePolicy(stays);
    row->addWidget(progress_, 1);
    addButton(row, tr("Write the sweep \u2026"), "sweepWrite", tr("As a WAV file, to be played elsewhere"),
              [this] { writeSweep(); });
    addButton(row, tr("From files \u2026"), "sweepFiles", tr("A sweep and what was recorded of it"),
              [this] { fromFiles(); });

    plot_ = new ComparePlot(this);
    plot_->setObjectName("sweepPlot");
    plot_->setAccessibleName(tr("Responses of the microphones"));
    plot_->setEmptyText(tr("The responses of the microphones come here."));
    column->addWidget(plot_, 3);

    auto* kept = addRow(column);
    name_ = named(new QLineEdit(this), "sweepName", tr("Name of the set"));
    name_->setPlaceholderText(tr("name of the set"));
    kept->addWidget(name_, 2);
    into_ = named(new QComboBox(this), "sweepInto", tr("What the sweep went into; noted with the set"));
    into_->addItems({tr("into the amplifier's input"), tr("into the power stage"), tr("into a power amplifier")});
    into_->setItemData(1, tr("The return of the effects loop: everything but the preamp"), Qt::ToolTipRole);
    into_->setItemData(2, tr("The loudspeaker alone"), Qt::ToolTipRole);
    kept->addWidget(into_);
    notes_ = named(new QLineEdit(this), "sweepNotes", tr("Notes about it"));
    notes_->setPlaceholderText(tr("notes"));
    kept->addWidget(notes_, 3);
    keep_ = addButton(kept, tr("Keep the set"), "sweepKeep", tr("Each microphone and their sum, in the session"),
                      [this] { keep(false); });
    intoRig_ = addButton(kept, tr("Into the rig"), "sweepIntoRig",
                         tr("Keeps the set and puts the sum into the rig in hand"), [this] { keep(true); });
    auto* caution = new QLabel(
        tr("A sweep is loud: start quietly, guard your ears. A valve amplifier never without its loudspeaker or a "
           "proper "
           "load; lethal voltages inside. No phantom power into ribbons. Makers' manuals and qualified people decide."),
        this);
    caution->setProperty("tone", "2");
    caution->setFont(Theme::instance().text(TextSize::Small));
    caution->setWordWrap(true);
    column->addWidget(caution);
}

void SweepPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    capture().ensureOpen();
    refresh();
}

std::vector<std::size_t> SweepPage::chosenInputs() const
{
    std::vector<std::size_t> out;
    for (const std::size_t i : inputs_)
        if (i < capture().inputs()) out.push_back(i);
    return out;
}

engine::SweepPlan SweepPage::plan() const
{
    engine::SweepPlan out;
    out.sweep.seconds = seconds_->value();
    out.repeats = std::size_t(times_->value());
    out.levelDbfs = level_->value();
    out.lengthS = 0.001 * length_->value();
    out.pauseS = std::max(0.5, out.lengthS + 0.2);
    out.side = engine::OutputSide(side_->currentIndex());
    out.inputs = chosenInputs();
    return out;
}

/// After a quiet one, of the same inputs, that would not clip at the level.
bool SweepPage::mayBeLoud() const
{
    if (!run_ || !fileNames_.isEmpty() || of_ != chosenInputs()) return false;
    const double more = level_->value() - run_->levelDbfs;
    return std::ranges::all_of(run_->peakDbfs, [&](double peak) { return peak + more < kMostPeakDbfs; });
}

void SweepPage::play(bool isQuiet)
{
    engine::SweepPlan wanted = plan();
    if (isQuiet)
        wanted.levelDbfs -= kQuieterDb, wanted.repeats = 1, wanted.sweep.seconds = std::min(3.0, wanted.sweep.seconds);
    trouble_.clear();
    using Answer = std::shared_ptr<Result<engine::SweepRun>>;
    const bool began = capture().withDevice(
        isQuiet ? tr("Trying quietly") : tr("Sweeping"),
        [this, wanted, isQuiet, cab = session().document().cab](engine::AudioDevice& device,
                                                                const Progress& p) -> std::function<void()> {
            const auto stood = standMicrophones(device, cab);
            const Answer run = std::make_shared<Result<engine::SweepRun>>(
                stood ? engine::runSweep(device, wanted, p) : Result<engine::SweepRun>(stood.error()));
            return [this, run, wanted, isQuiet] {
                if (*run) {
                    run_ = std::move(**run);
                    of_ = wanted.inputs;
                    fileNames_.clear();
                    isQuiet_ = isQuiet;
                } else if (run->error().code != ErrorCode::Cancelled) {
                    trouble_ = QString::fromStdString(run->error().line());
                } else {
                    trouble_ = tr("Stopped.");
                }
                refresh();
                emit auditionChanged();
            };
        });
    if (!began)
        emit failed(tr("The interface is busy or not open"), tr("stop what it does, or choose one on Level, Record"));
    refresh();
}

void SweepPage::writeSweep()
{
    const QString file = askSave();
    if (file.isEmpty()) return;
    engine::SweepPlan p = plan();
    p.sweep.rateHz = int(std::lround(capture().rateHz()));
    const auto made = sweep(p.sweep);
    const auto wrote = [&]() -> Outcome {
        if (!made) return made.error();
        Recording recording{p.sweep.rateHz, AudioBuffer(1, made->size())};
        std::ranges::copy(*made, recording.audio.channel(0).begin());
        return writeRecording(file.toStdString(), recording);
    }();
    if (!wrote) return void(tellFailure(wrote.error()));
    session().note("impulse", tr("Sweep written to %1").arg(file));
}

void SweepPage::fromFiles()
{
    const QString played = askSweep();
    const QStringList recorded = played.isEmpty() ? QStringList() : askRecordings();
    if (recorded.isEmpty()) return;
    trouble_.clear();
    SweepFiles wish{std::filesystem::path(played.toStdString()), {}, 0, {}};
    for (const QString& file : recorded) wish.recordings.emplace_back(file.toStdString());
    wish.options.lengthS = 0.001 * length_->value();
    using Answer = std::shared_ptr<Result<CapturedFiles>>;
    files_.run<Answer>(
        tr("Making impulses of files"),
        [wish](const Progress& p) { return std::make_shared<Result<CapturedFiles>>(captureFiles(wish, p)); },
        [this](Answer run) {
            if (*run) {
                run_.emplace();
                run_->set = std::move((*run)->set);
                fileNames_.clear();
                of_.clear();
                for (const CapturedFile& one : (*run)->each) {
                    of_.push_back(of_.size());
                    fileNames_ << QString::fromStdString(one.name);
                    run_->peakDbfs.push_back(one.peakDbfs);
                }
                isQuiet_ = false;
            } else {
                trouble_ = QString::fromStdString(run->error().line());
            }
            refresh();
            emit auditionChanged();
        });
    refresh();
}

QString SweepPage::nameOf(std::size_t row) const
{
    if (!fileNames_.isEmpty()) return fileNames_.value(int(row));
    const auto own = names_.find(row);
    if (own != names_.end() && !own->second.isEmpty()) return own->second;
    const auto& microphones = session().document().cab.microphones;
    if (capture().isSimulated() && row >= kFirstMicrophone && row - kFirstMicrophone < microphones.size()) {
        const PlacedMicrophone& m = microphones[row - kFirstMicrophone];
        const auto kind = microphoneOf(m.kind);
        return tr("%1, %2 cm")
            .arg(QString::fromStdString(kind ? kind->title : m.kind), shownFigure(100.0 * m.place.distanceM, 1));
    }
    return {};
}

void SweepPage::refresh()
{
    if (!session().isOpen() || !isVisible()) return;
    if (!areInputsChosen_ && capture().isSimulated()) {
        inputs_.clear(); // there the microphones' inputs are known
        for (std::size_t i = 0; i < session().document().cab.microphones.size(); ++i)
            if (kFirstMicrophone + i < capture().inputs()) inputs_.insert(kFirstMicrophone + i);
    }
    fillTable();
    tell();
    const bool isRunning = capture().deviceTask().isBusy(), isReady = capture().isOpen() && !chosenInputs().empty();
    quiet_->setEnabled(isReady && !isRunning);
    sweep_->setEnabled(isReady && !isRunning && mayBeLoud());
    stop_->setEnabled(isRunning);
    progress_->setVisible(isRunning);
    const bool isGood = run_ && run_->set.isAnyGood() && !isRunning;
    keep_->setEnabled(isGood && !isQuiet_);
    intoRig_->setEnabled(isGood && !isQuiet_ && session().layer());
    emit stateChanged();
}

void SweepPage::fillTable()
{
    refreshing_ = true;
    const int current = table_->currentRow();
    const std::size_t rows = fileNames_.isEmpty() ? capture().inputs() : std::size_t(fileNames_.size());
    table_->setRowCount(int(rows));
    const QString none(QChar(0x2013));
    for (std::size_t i = 0; i < rows; ++i) {
        const int row = int(i);
        auto* input = wordCell(QString::number(i + 1));
        if (fileNames_.isEmpty()) {
            input->setFlags(input->flags() | Qt::ItemIsUserCheckable);
            input->setCheckState(inputs_.contains(i) ? Qt::Checked : Qt::Unchecked);
        }
        table_->setItem(row, kInput, input);
        auto* name = wordCell(nameOf(i));
        if (fileNames_.isEmpty()) name->setFlags(name->flags() | Qt::ItemIsEditable);
        table_->setItem(row, kName, name);
        const auto at = std::ranges::find(of_, i);
        const auto* captured = run_ && at != of_.end() ? &run_->set.each[std::size_t(at - of_.begin())] : nullptr;
        const auto put = [&](Column c, const QString& text) { table_->setItem(row, c, figureCell(text)); };
        put(kPeak, captured ? shownFigure(run_->peakDbfs[std::size_t(at - of_.begin())], 1) : none);
        const bool isGood = captured && *captured;
        const double rate = isGood ? (*captured)->impulse.sampleRateHz : 1.0;
        put(kArrives,
            isGood ? shownFigure(1000.0 * ((*captured)->arrivalSamples - run_->set.firstArrivalSamples) / rate, 2)
                   : none);
        put(kSnr, isGood ? shownFigure((*captured)->snrDb, 0) : none);
        put(kDistortion, isGood ? shownFigure((*captured)->distortionPercent, 2) : none);
        auto* says = wordCell(!captured ? QString()
                              : isGood  ? (isQuiet_ ? tr("tried") : tr("captured"))
                                        : tr("refused"));
        if (captured && !isGood) says->setToolTip(QString::fromStdString(captured->error().line()));
        table_->setItem(row, kSays, says);
    }
    const int first = fileNames_.isEmpty() && !inputs_.empty() ? int(*inputs_.begin()) : 0;
    if (rows > 0) table_->selectRow(std::clamp(current < 0 ? first : current, 0, int(rows) - 1));
    refreshing_ = false;
}

void SweepPage::tell()
{
    std::vector<ComparePlot::Curve> curves;
    if (run_)
        for (std::size_t i = 0; i < of_.size(); ++i)
            if (run_->set.each[i]) {
                const Recording& impulse = run_->set.each[i]->impulse;
                auto points = levelled(smoothedResponse(impulse.audio.channel(0), impulse.sampleRateHz));
                const QString name = nameOf(of_[i]);
                curves.push_back({name.isEmpty() ? tr("input %1").arg(of_[i] + 1) : name, std::move(points)});
            }
    plot_->setCurves({}, std::move(curves));
    if (!trouble_.isEmpty()) return sentence_->setText(trouble_);
    if (capture().deviceTask().isBusy()) return sentence_->setText(tr("Listening \u2026 Stop fades it out."));
    if (!capture().isOpen()) return sentence_->setText(tr("No interface with inputs is open."));
    if (!run_) return sentence_->setText(tr("Set the levels as for playing, then try quietly."));
    const auto most = std::ranges::max_element(run_->peakDbfs);
    const double peak = most == run_->peakDbfs.end() ? -200.0 : *most;
    if (isQuiet_) {
        const double then = peak + level_->value() - run_->levelDbfs;
        return sentence_->setText(
            then >= kMostPeakDbfs ? tr("At %1 dBFS it would clip: turn the preamp down %2 dB, or play it more quietly.")
                                        .arg(shownFigure(level_->value(), 0), shownFigure(then + 6.0, 0))
            : then < kLeastPeakDbfs
                ? tr("Hardly anything arrives: at %1 dBFS it would peak at %2. Check cables and gain.")
                      .arg(shownFigure(level_->value(), 0), shownFigure(then, 0))
                : tr("At %1 dBFS it will peak at %2 dBFS, 24 dB louder than now. Guard your ears, then sweep.")
                      .arg(shownFigure(level_->value(), 0), shownFigure(then, 0)));
    }
    const auto good = std::ranges::count_if(run_->set.each, [](const auto& c) { return bool(c); });
    sentence_->setText(
        good == std::ssize(run_->set.each)
            ? tr("%1 captured; keep the set, or hear it below.")
                  .arg(good == 1 ? tr("One microphone") : tr("%1 microphones").arg(good))
            : tr("%1 of %2 captured; the others say why on the right.").arg(good).arg(run_->set.each.size()));
}

void SweepPage::keep(bool intoRig)
{
    if (!run_ || !run_->set.isAnyGood()) return;
    const QString set = name_->text().trimmed().isEmpty() ? tr("capture") : name_->text().trimmed();
    const QString about = tr("captured by a sweep %1%2")
                              .arg(into_->currentText(),
                                   notes_->text().trimmed().isEmpty() ? QString() : ": " + notes_->text().trimmed());
    std::string last;
    int kept = 0;
    const auto add = [&](const Recording& impulse, const QString& name, const QString& what) {
        const auto added = session().rigs().addImpulse(impulse, name, what);
        if (!added) {
            tellFailure(added.error());
            return false;
        }
        last = *added;
        return true;
    };
    for (std::size_t i = 0; i < of_.size(); ++i) {
        if (!run_->set.each[i]) continue;
        const Captured& c = *run_->set.each[i];
        const QString own = nameOf(of_[i]).isEmpty() ? tr("input %1").arg(of_[i] + 1) : nameOf(of_[i]);
        if (!add(c.impulse, tr("%1 - %2").arg(set, own),
                 tr("%1; %2: %3 dB over noise, distortion %4 %")
                     .arg(about, own, shownFigure(c.snrDb, 0), shownFigure(c.distortionPercent, 2))))
            return;
        ++kept;
    }
    if (kept > 1 &&
        !add(run_->set.mix(), tr("%1 - together").arg(set), tr("%1; the sum of %2 microphones").arg(about).arg(kept)))
        return;
    session().note("impulse", tr("Set \u201c%1\u201d kept: %2 microphones, %3").arg(set).arg(kept).arg(about));
    if (intoRig && session().layer()) putIntoRig(session(), last);
    emit stateChanged();
}

BenchFindings SweepPage::findings() const
{
    BenchFindings out{{}, tr("Distortion stands apart from the response; noise and clocks are watched.")};
    if (!run_) return out;
    if (!run_->isWhole) out.found.push_back(captureLostFinding());
    for (std::size_t i = 0; i < of_.size(); ++i) {
        const auto& c = run_->set.each[i];
        const QString own = nameOf(of_[i]).isEmpty() ? tr("Input %1").arg(of_[i] + 1) : nameOf(of_[i]);
        if (c && isQuiet_) continue; // what a try says of noise and distortion is not true of the sweep
        for (Finding& f : captureFindings(c, own.toStdString())) out.found.push_back(std::move(f));
    }
    return out;
}

AuditionRequest SweepPage::audition() const
{
    if (!session().isOpen() || !run_ || !run_->set.isAnyGood() || isQuiet_) return {};
    return hearImpulses(session(),
                        {{tr("Captured, together"), {}, std::make_shared<const Recording>(run_->set.mix())}});
}

} // namespace gristle::app
