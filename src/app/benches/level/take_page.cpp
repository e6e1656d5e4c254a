#include "app/benches/level/take_page.h"

#include "app/benches/level/level_strip.h"
#include "app/models/slots.h"
#include "core/advice/clean_findings.h"

#include <QComboBox>
#include <QDoubleSpinBox>
#include <QFormLayout>
#include <QLabel>
#include <QLineEdit>
#include <QSignalBlocker>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

TakePage::TakePage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Take"), tr("Is this DI captured right?"), parent)
{
    build();
    connect(&session(), &SessionModel::measured, this, &TakePage::refresh);
    connect(&session(), &SessionModel::documentChanged, this, &TakePage::refresh);
    connect(&session(), &SessionModel::pathChanged, this, &TakePage::refresh);
    connect(&session(), &SessionModel::loopChanged, this, &TakePage::refresh);
    connect(&audition_(), &Audition::metered, this,
            [this] { strip_->setPosition(audition_().isPlaying() ? audition_().reading().positionS : -1.0); });
    connect(&Theme::instance(), &Theme::changed, this, &TakePage::refresh);
    for (auto signal : {&SessionModel::rigChanged, &SessionModel::pathChanged, &SessionModel::measured})
        connect(&session(), signal, this, &TakePage::judgeCleaning);
}

void TakePage::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(4);
    auto* head = new QHBoxLayout;
    big_ = new QLabel(this);
    big_->setObjectName("gainChange");
    big_->setFont(Theme::instance().mono(TextSize::Big, true));
    bigUnit_ = new QLabel(this);
    bigUnit_->setObjectName("gainUnit");
    bigUnit_->setFont(Theme::instance().mono(TextSize::Heading));
    readings_ = new QLabel(this);
    readings_->setObjectName("levelReadings");
    readings_->setAlignment(Qt::AlignRight | Qt::AlignBottom);
    head->addWidget(big_);
    head->addWidget(bigUnit_, 1, Qt::AlignBottom);
    head->addWidget(readings_, 0, Qt::AlignBottom);
    column->addLayout(head);
    strip_ = new LevelStrip(this);
    column->addWidget(strip_, 3);
    auto* foot = new QHBoxLayout;
    foot->setSpacing(24);
    auto* restColumn = new QVBoxLayout;
    auto* restTitle = new QLabel(tr("Rest (grey) and playing (ink), dBFS over Hz"), this);
    restTitle->setFont(Theme::instance().text(TextSize::Normal, true));
    rest_ = new RestPicture(this);
    restColumn->addWidget(restTitle);
    restColumn->addWidget(rest_, 1);
    foot->addLayout(restColumn, 1);
    foot->addWidget(buildFields());
    column->addLayout(foot, 2);
}

QWidget* TakePage::buildFields()
{
    auto* box = new QWidget(this);
    box->setFixedWidth(270);
    auto* form = new QFormLayout(box);
    form->setContentsMargins(0, 0, 0, 0);
    form->setVerticalSpacing(5);
    form->setFieldGrowthPolicy(QFormLayout::AllNonFixedFieldsGrow);
    const auto add = [&](const QString& label, QWidget* field, const char* name, const QString& about) {
        field->setObjectName(name);
        field->setAccessibleName(label);
        field->setToolTip(about);
        form->addRow(label, field);
    };
    school_ = new QComboBox(box);
    school_->addItems({tr("average"), tr("peak")});
    add(tr("target school"), school_, "targetSchool",
        tr("Average: what the following stages expect. Peak: headroom for what was not played yet."));
    reference_ = new QDoubleSpinBox(box);
    reference_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    reference_->setRange(-60.0, 0.0);
    reference_->setDecimals(1);
    reference_->setSuffix(tr(" dBFS"));
    add(tr("0 VU is"), reference_, "reference", tr("The level at which a steady sine reads 0 VU"));
    takes_ = new QComboBox(box);
    takes_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    takes_->setMinimumContentsLength(12);
    add(tr("take"), takes_, "takeChoice", tr("The take that counts for this layer"));
    guitar_ = new QLineEdit(box);
    guitar_->setPlaceholderText(tr("which guitar"));
    add(tr("guitar"), guitar_, "guitar", tr("Which guitar was played"));
    pickup_ = new QLineEdit(box);
    pickup_->setPlaceholderText(tr("which pickup"));
    add(tr("pickup"), pickup_, "pickup", tr("Which pickup was chosen"));
    fullScale_ = new QDoubleSpinBox(box);
    fullScale_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    fullScale_->setRange(-40.0, 60.0);
    fullScale_->setDecimals(1);
    fullScale_->setSuffix(tr(" dBu"));
    add(tr("full scale is"), fullScale_, "fullScale",
        tr("The interface's input: dBu of a full-scale sine. Until it is set, volts are an assumption."));
    for (auto* combo : {school_, takes_}) connect(combo, &QComboBox::activated, this, &TakePage::writeFields);
    for (auto* spin : {reference_, fullScale_})
        connect(spin, &QDoubleSpinBox::editingFinished, this, &TakePage::writeFields);
    for (auto* line : {guitar_, pickup_}) connect(line, &QLineEdit::editingFinished, this, &TakePage::writeFields);
    return box;
}

void TakePage::writeFields()
{
    if (refreshing_ || !session().layer()) return;
    const LayerPath path = session().path();
    const Layer before = *session().layer();
    const auto text = [](const QLineEdit* line) { return line->text().trimmed().toStdString(); };
    session().edit(tr("Level settings changed"), "level", [&](SessionDocument& d) {
        d.targetSchool = school_->currentIndex() == 1 ? "peak" : "average";
        d.referenceDbfs = reference_->value();
        Layer& layer = *findLayer(d, path);
        layer.guitar = text(guitar_);
        layer.pickup = text(pickup_);
        const auto chosen = std::size_t(takes_->currentIndex()); // -1 where there is none: past all
        if (chosen < layer.takes.size() && chosen != layer.chosen) {
            layer.chosen = chosen;
            layer.pieces.clear(); // they were of another choice
        }
        Take* take = layer.chosen < layer.takes.size() ? &layer.takes[layer.chosen] : nullptr;
        if (take && std::abs(fullScale_->value() - take->input.dbuAtFullScale) > 0.04) {
            take->input = {fullScale_->value(), false};
            d.interface = take->input; // and for what is brought in from now on
        }
    });
    if (session().layer() && before.chosen != session().layer()->chosen) emit auditionChanged();
}

void TakePage::refreshFields()
{
    refreshing_ = true;
    const SessionDocument& d = session().document();
    const Layer* layer = session().layer();
    const Take* take = session().take();
    school_->setCurrentIndex(d.targetSchool == "peak" ? 1 : 0);
    reference_->setValue(d.referenceDbfs);
    fullScale_->setValue(take ? take->input.dbuAtFullScale : d.interface.dbuAtFullScale);
    const bool assumed = take ? take->input.assumed : d.interface.assumed;
    fullScale_->setSuffix(assumed ? tr(" dBu, assumed") : tr(" dBu"));
    guitar_->setText(layer ? QString::fromStdString(layer->guitar) : QString());
    pickup_->setText(layer ? QString::fromStdString(layer->pickup) : QString());
    constexpr int kTakeRoom = 150; // px, for a take's name
    takes_->clear();
    if (layer)
        for (std::size_t i = 0; i < layer->takes.size(); ++i) {
            const QString name = tr("%1: %2").arg(i + 1).arg(QString::fromStdString(layer->takes[i].source));
            takes_->addItem(takes_->fontMetrics().elidedText(name, Qt::ElideMiddle, kTakeRoom));
            takes_->setItemData(int(i), name, Qt::ToolTipRole);
        }
    if (layer) takes_->setCurrentIndex(int(layer->chosen));
    refreshing_ = false;
}

void TakePage::refresh()
{
    if (!session().isOpen()) return;
    refreshFields();
    const auto m = session().measurements().inHand();
    const auto options = session().measurements().options();
    const QString small = ink(Token::Ink2).name();
    if (!m || !m->advice.gainChangeDb) {
        big_->setText(QString(QChar(0x2013)));
        bigUnit_->setText(!session().take()                          ? tr("no take in this layer yet")
                          : m && m->isNobodyPlaying()                ? tr("nobody plays here")
                          : m && m->advice.heldByClipping            ? tr("no louder: something clips")
                          : m                                        ? tr("nothing is on it")
                          : session().measurements().task().isBusy() ? tr("measuring \u2026")
                                                                     : QString());
        readings_->clear();
    } else {
        const double change = *m->advice.gainChangeDb;
        const bool clipped = std::ranges::any_of(m->channels, &ChannelMeasurement::isClipped);
        big_->setText(QString::fromStdString(signedText(change)));
        bigUnit_->setText(clipped ? tr("dB, play again") : tr("dB at the preamp"));
        const auto average = session().measurements().averageDbfs(*session().take());
        std::optional<double> peak;
        for (const auto& c : m->channels)
            if (c.truePeakDbtp) peak = std::max(peak.value_or(-1e9), *c.truePeakDbtp);
        const QString mono = Theme::instance().mono().family();
        const auto figure = [&](double v) {
            return QStringLiteral("<span style='font-family:\"%1\";font-weight:600'>%2</span>")
                .arg(mono, QString::fromStdString(figureText(v)));
        };
        QString text;
        if (average)
            text += tr("averages %1 <span style='color:%2'>dBFS \u00b7 0 VU is %3</span><br>")
                        .arg(figure(*average), small, QString::fromStdString(figureText(options.referenceDbfs, 0)));
        if (peak)
            text += tr("loudest peak %1 <span style='color:%2'>dBTP \u00b7 after the change %3</span><br>")
                        .arg(figure(*peak), small, QString::fromStdString(figureText(*peak + change)));
        text += QStringLiteral("<span style='color:%1'>%2</span>")
                    .arg(small, tr("%1 Hz \u00b7 %2 s \u00b7 %3 bit%4")
                                    .arg(m->info.sampleRateHz)
                                    .arg(m->info.durationS(), 0, 'f', 1)
                                    .arg(m->info.bits)
                                    .arg(m->info.isFloat ? tr(" float") : QString()));
        readings_->setText(text);
    }
    const std::size_t channel =
        session().take() && session().take()->channel > 0 ? std::size_t(session().take()->channel - 1) : 0;
    strip_->setEmptyText(session().take() ? tr("Measuring \u2026")
                                          : tr("Drop a recording here, or bring takes in from the session menu."));
    strip_->setMeasurement(m, channel, options.referenceDbfs, options.target, session().loop().barSeconds());
    const double atS = session().take() ? session().take()->atS : 0.0; // the strip shows the file
    strip_->setLoop(session().loop().fromS() - atS, session().loop().toS() - atS);
    std::vector<double> gaps;
    if (const Take* take = session().take())
        for (const std::int64_t frame : take->gaps) gaps.push_back(double(frame) / std::max(1, take->sampleRateHz));
    strip_->setGaps(gaps);
    rest_->setMeasurement(m, channel);
    emit stateChanged();
}

Remedies TakePage::remedies()
{
    Remedies out;
    const auto m = session().measurements().inHand();
    if (!m || !m->advice.gainChangeDb) return out;
    const QString said = tr("Note for the next take: change the preamp by %1 dB")
                             .arg(QString::fromStdString(signedText(*m->advice.gainChangeDb)));
    for (const char* code : {"level.low", "level.hot", "level.headroom", "level.clipped"})
        out[code] = {tr("Note it for the next take"), [this, said] { session().note("level", said); }};
    const std::size_t channel = session().take()->channel > 0 ? std::size_t(session().take()->channel - 1) : 0;
    if (const auto& hum = m->channels[std::min(channel, m->channels.size() - 1)].noise.hum)
        out["level.hum"] = {tr("Comb it out, as a last resort"), [this, hz = hum->mainsHz] {
                                RigNode node;
                                node.type = "humcomb";
                                node.values["mains"] = std::round(hz * 1000.0) / 1000.0;
                                putFirstInRig(std::move(node), tr("Hum comb put first, %1 Hz").arg(hz, 0, 'f', 2));
                            }};
    const auto rest = session().folder().path() / "cache" / "check" / "rest.wav";
    std::error_code ignored;
    if (std::filesystem::exists(rest, ignored))
        out["level.noise"] = {tr("Reduce the hiss by the check's rest"), [this, rest] {
                                  const auto file =
                                      session().rigs().importImpulse(QString::fromStdString(rest.string()));
                                  if (!file) return;
                                  RigNode node;
                                  node.type = "hiss";
                                  node.values["profile"] = *file;
                                  putFirstInRig(std::move(node), tr("Hiss reduction put first"));
                              }};
    return out;
}

/// Before the stages that make it louder; a node of the same kind that is there already is set anew.
void TakePage::putFirstInRig(RigNode node, const QString& text)
{
    RigDocument rig = session().rigs().inHand();
    std::erase_if(rig.chain, [&](const RigNode& n) { return n.type == node.type; });
    rig.chain.insert(rig.chain.begin(), std::move(node));
    session().rigs().set(std::move(rig), text);
}

/// What the rig's cleaning nodes take from this take, of the noise and of the guitar.
void TakePage::judgeCleaning()
{
    const Take* take = session().isOpen() ? session().take() : nullptr;
    RigDocument cleaning;
    if (take)
        for (RigNode& node : session().rigs().inHand().chain)
            if ((node.type == "humcomb" || node.type == "hiss") && !node.bypass) {
                node.values["hear"] = std::string("cleaned");
                cleaning.chain.push_back(std::move(node));
            }
    const std::string key = cleaning.chain.empty() ? std::string() : take->file + " " + recallLine(cleaning.chain);
    if (key == cleanKey_) return;
    cleanKey_ = key;
    cleanFound_.clear();
    cleanTask_.cancel();
    if (key.empty()) return;
    LayerRecipe recipe = layerRecipe(session().folder(), *take, cleaning);
    recipe.tailS = 0.0;
    recipe.earlierS = 0.0; // frame by frame against the file
    const auto out = session().folder().path() / "cache" / "cleaned.wav";
    using Answer = std::shared_ptr<Result<std::optional<CleanJudgement>>>;
    cleanTask_.run<Answer>(
        tr("Judging the cleaning"),
        [recipe, out](const Progress& p) {
            using Judged = Result<std::optional<CleanJudgement>>;
            std::error_code ignored;
            std::filesystem::create_directories(out.parent_path(), ignored);
            const auto channel = chooseChannel(recipe.file, recipe.channelFromOne);
            if (!channel) return std::make_shared<Judged>(channel.error());
            const auto rendered = renderToFile(out, recipe, SampleFormat::Float32, p);
            if (!rendered) return std::make_shared<Judged>(rendered.error());
            auto judged = core::judgeCleaning(recipe.file, *channel, out, p);
            std::filesystem::remove(out, ignored);
            return std::make_shared<Judged>(std::move(judged));
        },
        [this](Answer answer) {
            if (*answer && answer->value()) cleanFound_ = cleanFindings(*answer->value());
            emit stateChanged();
        });
}

BenchFindings TakePage::findings() const
{
    const Take* take = session().isOpen() ? session().take() : nullptr;
    BenchFindings out{take ? session().measurements().levelFindings(*take) : std::vector<Finding>{},
                      take ? tr("Measuring \u2026")
                           : tr("Bring a take in and Gristle says whether it was captured right.")};
    out.found.insert(out.found.end(), cleanFound_.begin(), cleanFound_.end());
    rank(out.found);
    return out;
}

AuditionRequest TakePage::audition() const
{
    AuditionRequest out;
    out.kind = "level";
    const Take* take = session().isOpen() ? session().take() : nullptr;
    if (!take) return out;
    out.subject = tr("%1, dry DI").arg(QString::fromStdString(session().layer()->name));
    const LayerRecipe recipe = layerRecipe(session().folder(), *take, RigDocument{});
    out.slots_.push_back(layerSlot(tr("Dry"), recipe));
    return out;
}

} // namespace gristle::app
