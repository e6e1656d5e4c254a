#include "app/benches/level/ledger_page.h"

#include "core/rig/nodes/loading.h"
#include "core/rig/rig_document.h"
#include "core/units/calibrate.h"

#include <QComboBox>
#include <QDoubleSpinBox>
#include <QFileDialog>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kUnityWithinDb = 0.5;

GuitarCircuit circuitOf(const std::string& line)
{
    const auto chain = parseRecallLine("loading " + line);
    const bool good = chain && chain->size() == 1 && chain->front().type == "loading";
    return guitarCircuitOf(completeValues(*findNodeType("loading"), good ? chain->front().values : ParameterValues{}));
}

QString inVolts(double dbu)
{
    const double v = kDbuVoltsRms * dbToAmplitude(dbu);
    return v >= 0.1 ? LedgerPage::tr("%1 V").arg(v, 0, 'f', 2)
                    : LedgerPage::tr("%1 mV").arg(1000.0 * v, 0, 'f', v >= 0.001 ? 0 : 2);
}

} // namespace

LedgerPicture::LedgerPicture(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("ledgerPicture");
    setAccessibleName(tr("Level, noise and ceiling from the string to the amplifier"));
    setMinimumHeight(220);
}

void LedgerPicture::setLedger(std::optional<SignalLedger> ledger)
{
    ledger_ = std::move(ledger);
    QStringList told;
    if (ledger_)
        for (const PathRung& r : ledger_->rungs)
            if (r.levelDbu) told << tr("%1 %2 dBu").arg(QString::fromStdString(r.title), numberLabel(*r.levelDbu, 1));
    setAccessibleDescription(told.join(", "));
    changeStill();
}

void LedgerPicture::drawStill(QPainter& p)
{
    if (!ledger_) return drawEmpty(p, tr("A measured take shows the whole way from its string to the amplifier."));
    const double left = 132.0, words = 190.0;
    const QRectF inner(left, 24, width() - left - words, height() - 24 - 26);
    const Axis x{-130.0, 30.0, inner.left(), inner.right()};
    p.setFont(Theme::instance().mono(TextSize::Small));
    for (double v = -120.0; v <= 30.0; v += 30.0) {
        p.setPen(QPen(ink(Token::Rule), 1));
        p.drawLine(QPointF(x.at(v), inner.top()), QPointF(x.at(v), inner.bottom()));
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(x.at(v) - 40, inner.bottom() + 4, 80, 18), Qt::AlignCenter,
                   numberLabel(v) + (v == 30.0 ? tr(" dBu") : QString()));
    }
    const double step = inner.height() / double(ledger_->rungs.size());
    for (std::size_t i = 0; i < ledger_->rungs.size(); ++i) {
        const PathRung& r = ledger_->rungs[i];
        const double y = inner.top() + (double(i) + 0.5) * step;
        p.setPen(QPen(ink(Token::Rule), 1));
        p.drawLine(QPointF(0, y + 0.5 * step), QPointF(width(), y + 0.5 * step));
        p.setFont(Theme::instance().text(TextSize::Normal, true));
        p.setPen(ink(Token::Ink));
        p.drawText(QRectF(0, y - 17, left - 8, 18), Qt::AlignLeft | Qt::AlignVCenter, QString::fromStdString(r.title));
        p.setFont(Theme::instance().text(TextSize::Small));
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(0, y + 1, left - 8, 16), Qt::AlignLeft | Qt::AlignVCenter,
                   (r.estimate                                    ? tr("estimate")
                    : r.name == "output" || r.name == "amplifier" ? tr("reckoned")
                                                                  : tr("measured")) +
                       (r.doubtDb >= 0.5 ? tr(", \u00b1%1 dB").arg(numberLabel(r.doubtDb, 0)) : QString()));
        QColor bed = ink(Token::Di);
        bed.setAlphaF(0.35f);
        if (r.noiseDbu)
            p.fillRect(QRectF(inner.left(), y - 7, std::max(0.0, x.held(*r.noiseDbu) - inner.left()), 14), bed);
        if (r.levelDbu && r.peakDbu) {
            p.setPen(QPen(ink(Token::Ink), 1.4));
            p.drawLine(QPointF(x.held(*r.levelDbu), y), QPointF(x.held(*r.peakDbu), y));
            p.fillRect(QRectF(x.held(*r.levelDbu) - 2.5, y - 9, 5, 18), ink(Token::Ink));
            p.fillRect(QRectF(x.held(*r.peakDbu) - 1, y - 6, 2, 12), ink(Token::Ink));
        }
        if (r.ceilingDbu) {
            const bool passed = r.headroomDb() && *r.headroomDb() < 0.0;
            p.setPen(QPen(ink(passed ? Token::Act : Token::Ink), 1.6, Qt::DashLine));
            p.drawLine(QPointF(x.held(*r.ceilingDbu), y - 12), QPointF(x.held(*r.ceilingDbu), y + 12));
        }
        // The figures at the right, with what limits.
        p.setFont(Theme::instance().mono(TextSize::Small));
        p.setPen(ink(Token::Ink));
        const QRectF cell(inner.right() + 14, y - 17, words - 14, 17);
        p.drawText(cell, Qt::AlignLeft | Qt::AlignVCenter,
                   r.levelDbu ? tr("%1 dBu  %2").arg(numberLabel(*r.levelDbu, 1), inVolts(*r.levelDbu))
                              : QString(QChar(0x2013)));
        p.setFont(Theme::instance().text(TextSize::Small, true));
        double below = 17.0;
        const auto limit = [&](const QString& text, Token token) {
            p.setPen(ink(token));
            p.drawText(cell.translated(0, below), Qt::AlignLeft | Qt::AlignVCenter, text);
            below += 15.0;
        };
        if (r.limitsHeadroom)
            limit(tr("least headroom, %1 dB").arg(numberLabel(*r.headroomDb(), 1)),
                  *r.headroomDb() < 0.0 ? Token::Act : Token::Ink2);
        if (r.limitsNoise) limit(tr("sets the noise, %1 dB under").arg(numberLabel(*r.snrDb(), 0)), Token::Ink2);
    }
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    p.drawText(QRectF(inner.left(), 0, inner.width() + words, 18), Qt::AlignLeft | Qt::AlignVCenter,
               tr("grey: noise \u00b7 mark to tick: average to peak \u00b7 dashed: where it clips"));
}

LedgerPage::LedgerPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Ledger"), tr("What limits the level from the string to the amplifier?"), parent)
{
    askReturn = [this] {
        return QFileDialog::getOpenFileName(this, tr("A recording of what arrived at the amplifier's input"), QString(),
                                            tr("Audio (*.wav *.aif *.aiff *.flac)"));
    };
    build();
    for (auto signal : {&SessionModel::measured, &SessionModel::documentChanged, &SessionModel::pathChanged})
        connect(&session(), signal, this, &LedgerPage::refresh);
    connect(&session(), &SessionModel::pathChanged, this, [this] { return_file_.reset(); });
    connect(&Theme::instance(), &Theme::changed, this, &LedgerPage::refresh);
    connect(&capture(), &Capture::changed, this, &LedgerPage::refresh);
}

void LedgerPage::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    sentence_ = new QLabel(this);
    sentence_->setObjectName("ledgerSentence");
    sentence_->setFont(Theme::instance().text(TextSize::Reading, true));
    sentence_->setWordWrap(true);
    column->addWidget(sentence_);
    picture_ = new LedgerPicture(this);
    column->addWidget(picture_, 1);
    const auto name = [](auto* w, const char* object, const QString& about) {
        w->setObjectName(object);
        w->setAccessibleName(about);
        w->setToolTip(about);
        return w;
    };
    const auto spin = [&](const char* object, const QString& about, double low, double high, int digits,
                          const QString& suffix) {
        auto* s = name(new QDoubleSpinBox(this), object, about);
        s->setButtonSymbols(QAbstractSpinBox::NoButtons);
        s->setRange(low, high);
        s->setDecimals(digits);
        s->setSuffix(suffix);
        s->setMaximumWidth(84);
        return s;
    };
    const auto label = [&](QHBoxLayout* row, const QString& text) {
        auto* l = new QLabel(text, this);
        l->setProperty("tone", "2");
        row->addWidget(l);
    };
    auto* path = new QHBoxLayout;
    path->setSpacing(6);
    setup_ = name(new QComboBox(this), "ledgerSetup", tr("Set-up between string and input, from the Loading page"));
    input_ = spin(
        "inputDbu",
        tr("dBu of a full-scale sine at the interface's input, for this take; \u2248: assumed until it is calibrated"),
        -40, 60, 1, tr(" dBu"));
    output_ =
        spin("outputDbu", tr("dBu of a full-scale sine at the reamp output; \u2248: assumed until it is calibrated"),
             -40, 60, 1, tr(" dBu"));
    box_ = spin("boxDb", tr("What the reamp box adds, mostly below 0"), -60, 60, 1, tr(" dB"));
    label(path, tr("guitar"));
    path->addWidget(setup_);
    label(path, tr("input"));
    path->addWidget(input_);
    label(path, tr("output"));
    path->addWidget(output_);
    label(path, tr("box"));
    path->addWidget(box_);
    path->addStretch(1);
    return_ = name(new QPushButton(tr("Return \u2026"), this), "checkReturn",
                   tr("Compare a recording of what arrived at the amplifier's input with the DI"));
    connect(return_, &QPushButton::clicked, this, &LedgerPage::bringReturn);
    path->addWidget(return_);
    column->addLayout(path);
    auto* meter = new QHBoxLayout;
    meter->setSpacing(6);
    label(meter, tr("a voltmeter at the"));
    voltsOf_ = name(new QComboBox(this), "voltsOf", tr("Where the voltmeter is"));
    voltsOf_->addItems({tr("output"), tr("input")});
    meter->addWidget(voltsOf_);
    auto* tone = name(
        new QPushButton(tr("Play a tone"), this), "testTone",
        tr("220 Hz at -20 dBFS to the output, while a voltmeter on AC reads it. Monitors and headphones down first."));
    tone->setCheckable(true);
    connect(tone, &QPushButton::clicked, this, [this](bool on) {
        if (on) capture().ensureOpen();
        capture().setTone(on);
    });
    connect(&capture(), &Capture::changed, tone, [this, tone] { tone->setChecked(capture().isTone()); });
    meter->addWidget(tone);
    label(meter, tr("reads"));
    volts_ = spin("voltsRead", tr("What the voltmeter reads, volts RMS"), 0, 50, 4, tr(" V"));
    meter->addWidget(volts_);
    fromVolts_ = name(new QPushButton(tr("Calibrate"), this), "fromVolts", tr("Set the calibration by this reading"));
    connect(fromVolts_, &QPushButton::clicked, this, [this] {
        const bool atOutput = voltsOf_->currentIndex() == 0;
        const auto answer =
            calibrateByVoltmeter(volts_->value(), atOutput ? kTestToneDbfs : capture().meters().reading().averageDbfs);
        if (!answer) {
            meter_->setText(QString::fromStdString(answer.error().line()));
            return;
        }
        meter_->setText(QString::fromStdString(answer->arithmetic) + QStringLiteral("."));
        session().edit(tr("Calibrated by a voltmeter: %1").arg(QString::fromStdString(answer->arithmetic)), "interface",
                       [&](SessionDocument& d) { (atOutput ? d.reamp.output : d.interface) = answer->calibration; });
    });
    meter->addWidget(fromVolts_);
    meter_ = name(new QLabel(this), "calibrationArithmetic", tr("How the calibration is reckoned"));
    meter_->setProperty("tone", "2");
    meter_->setFont(Theme::instance().text(TextSize::Small));
    meter_->setWordWrap(true);
    meter->addWidget(meter_, 1);
    column->addLayout(meter);
    auto* caution = new QLabel(tr("Before you plug into an amplifier: volume down, a loudspeaker or a proper load on "
                                  "every valve amplifier, and the maker's "
                                  "manual for what its input bears."),
                               this);
    caution->setProperty("tone", "2");
    caution->setFont(Theme::instance().text(TextSize::Small));
    caution->setWordWrap(true);
    column->addWidget(caution);
    for (auto* s : {input_, output_, box_})
        connect(s, &QDoubleSpinBox::editingFinished, this, &LedgerPage::writeFields);
    connect(setup_, &QComboBox::activated, this, &LedgerPage::refresh);
}

void LedgerPage::hideEvent(QHideEvent* event)
{
    BenchPage::hideEvent(event);
    if (capture().isTone()) capture().setTone(false);
}

void LedgerPage::writeFields()
{
    if (refreshing_ || !session().isOpen()) return;
    const LayerPath path = session().path();
    session().edit(tr("Ledger settings changed"), "interface", [&](SessionDocument& d) {
        Layer* layer = findLayer(d, path);
        Take* take = layer && layer->chosen < layer->takes.size() ? &layer->takes[layer->chosen] : nullptr;
        if (take && std::abs(input_->value() - take->input.dbuAtFullScale) > 0.04)
            take->input = {input_->value(), false};
        if (std::abs(output_->value() - d.reamp.output.dbuAtFullScale) > 0.04)
            d.reamp.output = {output_->value(), false};
        d.reamp.boxDb = box_->value();
    });
}

void LedgerPage::bringReturn()
{
    const QString file = askReturn();
    if (file.isEmpty()) return;
    using Answer = std::shared_ptr<Result<FileMeasurement>>;
    returned_.run<Answer>(
        tr("Measuring the return"),
        [f = file.toStdString(), options = session().measurements().options()](const Progress& p) {
            return std::make_shared<Result<FileMeasurement>>(measureFile(f, options, p));
        },
        [this](Answer answer) {
            if (!*answer)
                return emit failed(QString::fromStdString(answer->error().message),
                                   QString::fromStdString(answer->error().remedy));
            return_file_ = std::make_shared<const FileMeasurement>(std::move(**answer));
            refresh();
        });
}

std::optional<SignalLedger> LedgerPage::ledger() const
{
    const Take* take = session().isOpen() ? session().take() : nullptr;
    const auto measured = take ? session().measurements().of(*take) : nullptr;
    if (!measured) return std::nullopt;
    LedgerWish wish;
    const auto& lines = session().document().loadings;
    const int index = std::max(0, setup_->currentIndex());
    wish.circuit = circuitOf(std::size_t(index) < lines.size() ? lines[std::size_t(index)] : std::string());
    wish.input = take->input;
    wish.reamp = session().document().reamp;
    wish.channel = take->channel > 0 ? std::size_t(take->channel - 1) : 0;
    return signalLedger(*measured, wish, session().document().referenceDbfs, return_file_.get());
}

void LedgerPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    refresh();
}

void LedgerPage::refresh()
{
    if (!session().isOpen() || !isVisible()) return; // shown anew when it is looked at
    refreshing_ = true;
    const int kept = std::max(0, setup_->currentIndex());
    setup_->clear();
    const int setups = std::max(1, int(session().document().loadings.size()));
    for (int i = 0; i < setups; ++i) setup_->addItem(tr("set-up %1").arg(i + 1));
    setup_->setCurrentIndex(std::min(kept, setups - 1));
    const Take* take = session().take();
    const Calibration in = take ? take->input : session().document().interface;
    const ReampPath& reamp = session().document().reamp;
    input_->setValue(in.dbuAtFullScale);
    const QString assumed = QStringLiteral("\u2248 ");
    input_->setPrefix(in.assumed ? assumed : QString());
    input_->setEnabled(take != nullptr);
    output_->setValue(reamp.output.dbuAtFullScale);
    output_->setPrefix(reamp.output.assumed ? assumed : QString());
    box_->setValue(reamp.boxDb);
    refreshing_ = false;
    auto l = ledger();
    QString sentence;
    if (l) {
        sentence = tr("Reamp with %1 dB of trim: the amplifier then sees the guitar's own voltage.")
                       .arg(QString::fromStdString(signedText(l->unityTrimDb)));
        if (l->outputHeadroomDb && *l->outputHeadroomDb < 0.0)
            sentence = tr("The output clips %1 dB before the amplifier sees the guitar's own voltage: take a hotter "
                          "output, or turn up behind it.")
                           .arg(numberLabel(-*l->outputHeadroomDb, 1));
        if (l->returnErrorDb)
            sentence += std::abs(*l->returnErrorDb) <= kUnityWithinDb
                            ? tr(" The return agrees within %1 dB.").arg(numberLabel(std::abs(*l->returnErrorDb), 1))
                            : tr(" The return is %1 dB off: turn the reamp level by %2 dB.")
                                  .arg(numberLabel(*l->returnErrorDb, 1),
                                       QString::fromStdString(signedText(-*l->returnErrorDb)));
        if (l->assumed)
            sentence +=
                tr(" (Within \u00b1%1 dB only: calibrate input and output.)").arg(numberLabel(l->trimDoubtDb, 1));
    } else {
        sentence = take ? tr("Measuring \u2026") : tr("No take yet.");
    }
    sentence_->setText(sentence);
    picture_->setLedger(std::move(l));
    emit stateChanged();
}

BenchFindings LedgerPage::findings() const
{
    const Take* take = session().isOpen() ? session().take() : nullptr;
    return {take ? session().measurements().levelFindings(*take) : std::vector<Finding>{},
            tr("Bring a take in, or record one.")};
}

} // namespace gristle::app
