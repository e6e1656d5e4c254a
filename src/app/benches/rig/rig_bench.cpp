#include "app/benches/rig/rig_bench.h"

#include "app/benches/rig/ladder.h"
#include "app/benches/rig/stage_panel.h"
#include "core/advice/gate_advice.h"
#include "core/advice/rig_findings.h"
#include "core/rig/starting_points.h"

#include <QComboBox>
#include <QDoubleSpinBox>
#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

QPushButton* button(const QString& text, const char* name, const QString& about, QWidget* parent)
{
    auto* b = new QPushButton(text, parent);
    b->setObjectName(name);
    b->setAccessibleName(about);
    b->setToolTip(about);
    return b;
}

/// A rig with the last stage replaced: what `rungs` need.
struct ChainAnswer {
    std::vector<Rung> rungs;
    RenderReport report;
    std::optional<Error> failure;
};

} // namespace

RigBench::RigBench(const BenchContext& context, QWidget* parent) : Bench(context, tr("Rig"), 3, parent)
{
    askImpulse = [this] {
        return QFileDialog::getOpenFileName(this, tr("Bring an impulse in"), QString(),
                                            tr("Audio (*.wav *.aif *.aiff *.flac)"));
    };
    build();
    connect(&session(), &SessionModel::rigChanged, this, &RigBench::refresh);
    connect(&session(), &SessionModel::pathChanged, this, &RigBench::refresh);
    connect(&session(), &SessionModel::measured, this, &RigBench::measureChain);
    connect(&session(), &SessionModel::loopChanged, this, [this] {
        measureChain();
        refreshStage();
    });
    connect(&Theme::instance(), &Theme::changed, this, &RigBench::refresh);
}

void RigBench::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(26, 18, 26, 12);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    auto* question = new QLabel(tr("What does each stage do to the next?"), this);
    question->setFont(Theme::instance().text(TextSize::Heading, true));
    head->addWidget(question);
    head->addStretch(1);
    rigs_ = new QComboBox(this);
    rigs_->setObjectName("rigChoice");
    rigs_->setAccessibleName(tr("Rig of this layer"));
    rigs_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    connect(rigs_, &QComboBox::activated, this,
            [this](int index) { session().chooseRig(rigs_->itemData(index).toString().toStdString()); });
    head->addWidget(rigs_);
    auto* start =
        button(tr("Start from"), "startFrom", tr("Eight rigs to begin with; the present one stays a version"), this);
    start->setMenu(new QMenu(start));
    start->menu()->setToolTipsVisible(true);
    for (const StartingPoint& point : startingPoints()) {
        QAction* action = start->menu()->addAction(tr(point.title));
        action->setToolTip(tr(point.listen));
        connect(action, &QAction::triggered, this, [this, &point] {
            const auto files = session().folder().impulseFiles();
            const double tempo = session().song() ? session().song()->tempoBpm : 120.0;
            change(tr("Started from: %1").arg(tr(point.title)), [&](RigDocument& r) {
                const double output = r.outputDb;
                r = rigOf(point, files.empty() ? std::string() : files.front(), tempo);
                r.outputDb = output;
            });
            chooseStage(0);
        });
    }
    head->addWidget(start);
    auto* forPart = button(tr("To the part"), "rigForPart", tr("Give all layers of this part the same rig"), this);
    connect(forPart, &QPushButton::clicked, this, [this] { session().giveRigToPart(); });
    head->addWidget(forPart);
    column->addLayout(head);
    about_ = new QLabel(this);
    about_->setProperty("tone", "2");
    about_->setObjectName("rigAbout");
    about_->setWordWrap(true);
    column->addWidget(about_);
    ladder_ = new Ladder(this);
    connect(ladder_, &Ladder::choose, this, &RigBench::chooseStage);
    column->addWidget(ladder_, 5);
    column->addWidget(buildChainRow());
    stage_ = new StagePanel(this);
    connect(stage_, &StagePanel::controlChanged, this, &RigBench::setControl);
    connect(stage_, &StagePanel::refused, this, &RigBench::failed);
    connect(stage_, &StagePanel::fileWanted, this, &RigBench::bringImpulse);
    column->addWidget(stage_, 4);
    line_ = new QLineEdit(this);
    line_->setObjectName("recallLine");
    line_->setAccessibleName(tr("Recall line of the rig"));
    line_->setToolTip(tr("The whole chain as one line: stages between |, lanes in { ; }. Type and press Enter."));
    line_->setFont(Theme::instance().mono(TextSize::Small));
    connect(line_, &QLineEdit::editingFinished, this, &RigBench::writeLine);
    column->addWidget(line_);
}

QWidget* RigBench::buildChainRow()
{
    auto* row = new QWidget(this);
    auto* layout = new QHBoxLayout(row);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(6);
    auto* add = button(tr("Add a stage"), "addStage", tr("Add a stage behind the chosen one"), row);
    auto* menu = new QMenu(add);
    std::string group;
    for (const NodeType& type : nodeTypes()) {
        if (type.group != group) menu->addSection(tr((group = type.group).c_str()));
        QAction* action = menu->addAction(QString::fromStdString(type.title));
        action->setToolTip(QString::fromStdString(type.about));
        connect(action, &QAction::triggered, this, [this, name = type.type] {
            const int at = rig_.chain.empty() ? 0 : ladder_->chosen() + 1;
            RigNode node;
            node.type = name;
            const auto files = session().folder().impulseFiles();
            if (name == "impulse" && !files.empty()) node.values["file"] = files.front();
            change(tr("Stage added: %1").arg(QString::fromStdString(name)),
                   [&](RigDocument& r) { r.chain.insert(r.chain.begin() + at, node); });
            chooseStage(at);
        });
    }
    add->setMenu(menu);
    layout->addWidget(add);
    bypass_ = button(tr("Bypass"), "bypassStage", tr("Let the signal pass the chosen stage"), row);
    bypass_->setCheckable(true);
    connect(bypass_, &QPushButton::clicked, this, [this](bool on) {
        const std::size_t at = std::size_t(ladder_->chosen());
        change(on ? tr("Stage bypassed") : tr("Stage active again"), [&](RigDocument& r) { r.chain[at].bypass = on; });
    });
    earlier_ = button(tr("Earlier"), "stageEarlier", tr("Move the chosen stage one step towards the input"), row);
    later_ = button(tr("Later"), "stageLater", tr("Move the chosen stage one step towards the output"), row);
    for (const int by : {-1, 1})
        connect(by < 0 ? earlier_ : later_, &QPushButton::clicked, this, [this, by] {
            const int at = ladder_->chosen(), to = at + by;
            if (to < 0 || to >= int(rig_.chain.size())) return;
            change(tr("Stage moved"),
                   [&](RigDocument& r) { std::swap(r.chain[std::size_t(at)], r.chain[std::size_t(to)]); });
            chooseStage(to);
        });
    remove_ = button(tr("Remove"), "removeStage", tr("Take the chosen stage out"), row);
    connect(remove_, &QPushButton::clicked, this, [this] {
        const int at = ladder_->chosen();
        change(tr("Stage removed"), [&](RigDocument& r) { r.chain.erase(r.chain.begin() + at); });
    });
    for (QWidget* b : {bypass_, earlier_, later_, remove_}) layout->addWidget(b);
    layout->addStretch(1);
    auto* label = new QLabel(tr("output"), row);
    output_ = new QDoubleSpinBox(row);
    output_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    output_->setObjectName("rigOutput");
    output_->setAccessibleName(tr("Output level of the rig"));
    output_->setRange(-60.0, 60.0);
    output_->setDecimals(1);
    output_->setSuffix(tr(" dB"));
    connect(output_, &QDoubleSpinBox::editingFinished, this, [this] {
        if (refreshing_ || output_->value() == rig_.outputDb) return;
        change(tr("Rig output %1 dB").arg(output_->value()), [&](RigDocument& r) { r.outputDb = output_->value(); });
    });
    layout->addWidget(label);
    layout->addWidget(output_);
    return row;
}

bool RigBench::isBusy() const { return chainTask_.isBusy() || stage_->isBusy(); }

RigNode* RigBench::chosenNode()
{
    const std::size_t at = std::size_t(ladder_->chosen());
    return at < rig_.chain.size() ? &rig_.chain[at] : nullptr;
}

void RigBench::change(const QString& text, const std::function<void(RigDocument&)>& edit, int mergeKey)
{
    if (!session().layer()) return;
    RigDocument rig = rig_;
    edit(rig);
    session().setRig(std::move(rig), text, mergeKey);
    emit auditionChanged();
}

void RigBench::setControl(const QString& key, const QString& text)
{
    const RigNode* node = chosenNode();
    const NodeType* type = node ? findNodeType(node->type) : nullptr;
    const ParameterSpec* spec = type ? type->find(key.toStdString()) : nullptr;
    if (!spec) return;
    const auto value = parseValue(*type, *spec, text.toStdString());
    if (!value) return;
    const std::size_t at = std::size_t(ladder_->chosen());
    const int mergeKey = int(at) * 64 + int(spec - type->parameters.data());
    change(
        tr("%1 %2 %3").arg(QString::fromStdString(node->type), QString::fromStdString(spec->label), text),
        [&](RigDocument& r) { r.chain[at].values[spec->key] = *value; }, mergeKey);
}

void RigBench::bringImpulse(const QString& key)
{
    const QString file = askImpulse();
    if (file.isEmpty()) return;
    auto name = session().importImpulse(file);
    if (!name)
        return void(
            emit failed(QString::fromStdString(name.error().message), QString::fromStdString(name.error().remedy)));
    setControl(key, QString::fromStdString(*name));
}

void RigBench::writeLine()
{
    if (refreshing_ || !session().layer() || line_->text().toStdString() == recallLine(rig_.chain)) return;
    const auto chain = parseRecallLine(line_->text().toStdString());
    if (!chain)
        return void(
            emit failed(QString::fromStdString(chain.error().message), QString::fromStdString(chain.error().remedy)));
    change(tr("Chain typed"), [&](RigDocument& r) { r.chain = *chain; });
}

void RigBench::chooseStage(int stage)
{
    ladder_->setChosen(stage);
    refreshStage();
}

void RigBench::refresh()
{
    if (!session().isOpen()) return;
    refreshing_ = true;
    warnings_.clear();
    rig_ = session().rig(&warnings_);
    const Layer* layer = session().layer();
    rigs_->clear();
    rigs_->addItem(tr("dry, no rig"), QString());
    for (const auto& file : session().folder().rigFiles()) {
        const QString name = QString::fromStdString(file).section('/', -1).chopped(5);
        rigs_->addItem(name.section(".v", 0, -2) + tr(", version ") + name.section(".v", -1),
                       QString::fromStdString(file));
    }
    rigs_->setCurrentIndex(layer ? std::max(0, rigs_->findData(QString::fromStdString(layer->rig))) : 0);
    const auto average = session().take() ? session().averageDbfs(*session().take()) : std::nullopt;
    QString about = tr("every change is a new version; what you hear is matched in loudness");
    if (rig_.diAverageDbfs && average)
        about = tr("made for a DI at %1 dBFS, this one %2 \u00b7 ")
                    .arg(QString::fromStdString(figureText(*rig_.diAverageDbfs)),
                         QString::fromStdString(figureText(*average))) +
                about;
    const Take* take = session().take();
    if (take && take->input.assumed) about += tr(" \u00b7 volts are an assumption until the input is calibrated");
    about_->setText(about);
    about_->setFont(Theme::instance().text(TextSize::Small));
    ladder_->setChain(rig_.chain);
    line_->setText(QString::fromStdString(recallLine(rig_.chain)));
    line_->setCursorPosition(0);
    output_->setValue(rig_.outputDb);
    refreshing_ = false;
    refreshStage();
    measureChain();
    emit stateChanged();
}

void RigBench::refreshStage()
{
    const RigNode* node = chosenNode();
    for (QPushButton* b : {bypass_, remove_}) b->setEnabled(node != nullptr);
    earlier_->setEnabled(node && ladder_->chosen() > 0);
    later_->setEnabled(node && ladder_->chosen() + 1 < int(rig_.chain.size()));
    bypass_->setChecked(node && node->bypass);
    QStringList files;
    for (const auto& f : session().folder().impulseFiles()) files << QString::fromStdString(f);
    StagePanel::Subject subject;
    if (session().take()) subject.recipe = recipe(rig_);
    subject.stage = std::size_t(ladder_->chosen());
    if (const Song* song = session().song()) {
        subject.beatS = 60.0 / song->tempoBpm;
        subject.beats = std::max(1, int(std::lround(session().barSeconds() / subject.beatS)));
    }
    stage_->setStage(node, files, std::move(subject));
}

LayerRecipe RigBench::recipe(const RigDocument& rig) const
{
    LayerRecipe out = layerRecipe(session().folder(), *session().take(), rig);
    out.allowMissing = true;
    out.effort = Effort::Draft;
    out.startS = (session().loopFromBar() - 1.0) * session().barSeconds();
    out.endS = (session().loopToBar() - 1.0) * session().barSeconds();
    const double duration = double(session().take()->frames) / std::max(1, session().take()->sampleRateHz);
    if (out.startS >= duration) out.startS = 0.0;
    out.endS = std::min(out.endS, duration);
    return out;
}

void RigBench::measureChain()
{
    ladder_->setRungs({}, rig_.outputDb);
    if (!session().isOpen() || !session().take() || rig_.chain.empty()) return;
    const LayerRecipe recipe = this->recipe(rig_);
    double restFrom = 0.0, restTo = 0.0;
    if (const auto m = session().measurement(); m && !m->channels[0].noise.rests.empty()) {
        const Stretch rest = m->channels[0].noise.rests.front();
        restFrom = double(rest.first) * HopTrack::kHopS;
        restTo = restFrom + std::min(1.0, double(rest.count) * HopTrack::kHopS);
    }
    chainTask_.run<std::shared_ptr<ChainAnswer>>(
        tr("Measuring the chain"),
        [recipe, restFrom, restTo](const Progress& p) {
            auto out = std::make_shared<ChainAnswer>();
            auto rungs = rigLedger(recipe, restFrom, restTo, out->report, p);
            if (rungs)
                out->rungs = std::move(*rungs);
            else
                out->failure = rungs.error();
            return out;
        },
        [this](std::shared_ptr<ChainAnswer> answer) {
            if (answer->failure) {
                ladder_->setEmptyText(QString::fromStdString(answer->failure->line()));
                return;
            }
            rungs_ = std::move(answer->rungs);
            report_ = std::move(answer->report);
            ladder_->setRungs(rungs_, rig_.outputDb);
            emit stateChanged();
        });
}

BenchState RigBench::state() const
{
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    if (!layer) return {QString(QChar(0x2013)), false};
    if (layer->rig.empty()) return {tr("dry"), false};
    if (!warnings_.empty()) return {tr("%1 to fix").arg(warnings_.size()), true};
    return {tr("%1 v%2").arg(QString::fromStdString(rig_.name)).arg(rig_.version), false};
}

void RigBench::findings(FindingsPanel& panel) const
{
    std::vector<Finding> found;
    Remedies remedies;
    if (session().isOpen() && session().take() && !rig_.chain.empty()) {
        RenderReport told = report_;
        for (const auto& w : warnings_)
            if (std::ranges::find(told.warnings, w) == told.warnings.end()) told.warnings.push_back(w);
        const auto average = session().averageDbfs(*session().take());
        found = rigFindings(told, rig_, average, session().layer()->name);
        if (rig_.diAverageDbfs && average) {
            const double trim = std::round((*rig_.diAverageDbfs - *average) * 10.0) / 10.0;
            auto* self = const_cast<RigBench*>(this);
            remedies["rig.level_moved"] = {
                tr("Put %1 dB first").arg(QString::fromStdString(signedText(trim))), [self, trim] {
                    self->change(tr("Gain of %1 dB put first").arg(trim), [&](RigDocument& r) {
                        RigNode gain;
                        gain.type = "gain";
                        gain.values["db"] = trim;
                        r.chain.insert(r.chain.begin(), gain);
                    });
                }};
        }
        if (rungs_.size() == rig_.chain.size() + 1 && rungs_.front().restDbu) {
            // Where noise grows most over the signal: the place for a gate, or for less gain.
            double most = 0.0;
            std::size_t where = 0;
            for (std::size_t i = 1; i < rungs_.size(); ++i) {
                const double grows =
                    (*rungs_[i].restDbu - *rungs_[i - 1].restDbu) - (rungs_[i].playingDbu - rungs_[i - 1].playingDbu);
                if (grows > most) most = grows, where = i;
            }
            const double apart = rungs_.back().playingDbu - *rungs_.back().restDbu;
            Finding f;
            f.severity = apart < 40.0 ? Severity::Fix : Severity::Note;
            f.code = "rig.noise";
            f.title = apart < 40.0 ? "Noise comes close" : "Noise stays behind";
            f.message =
                "At the output the noise lies " + figureText(apart, 0) + " dB under the playing" +
                (where > 0 && most > 3.0 ? "; " + rungs_[where].name + " takes " + figureText(most, 0) + " dB of it."
                                         : ".");
            f.measured = apart, f.target = 40.0, f.unit = "dB", f.low = 0.0, f.high = 90.0, f.targetLow = 40.0,
            f.targetHigh = 90.0;
            if (apart < 40.0) f.remedy = "Take drive back, or capture the DI quieter";
            found.push_back(std::move(f));
        }
    }
    if (const auto m = session().isOpen() && session().take() ? session().measurement() : nullptr)
        for (std::size_t i = 0; i < rig_.chain.size(); ++i) {
            if (rig_.chain[i].type != "gate" || rig_.chain[i].bypass) continue;
            const auto values = completeValues(*findNodeType("gate"), rig_.chain[i].values);
            const std::size_t channel =
                std::min(std::size_t(std::max(0, session().take()->channel - 1)), m->channels.size() - 1);
            const auto advice = gateAdvice(m->channels[channel], numberOf(values, "hysteresis"));
            if (!advice) continue;
            found.push_back(gateFinding(*advice, numberOf(values, "threshold"), session().layer()->name));
            if (!found.back().remedy.empty() && advice->thresholdDbfs) {
                auto* self = const_cast<RigBench*>(this);
                remedies["rig.gate"] = {
                    tr("Set it to %1 dBFS").arg(*advice->thresholdDbfs), [self, i, threshold = *advice->thresholdDbfs] {
                        self->change(tr("Gate at %1 dBFS").arg(threshold),
                                     [&](RigDocument& r) { r.chain[i].values["threshold"] = threshold; });
                    }};
            }
            break; // one is told; a second one behind the amplifier wants the same
        }
    if (const StartingPoint* point = session().isOpen() ? findStartingPoint(rig_.name) : nullptr) {
        Finding f;
        f.code = "rig.start";
        f.severity = Severity::Note;
        f.title = "Started from: " + rig_.name;
        f.message = std::string("Listen for ") + point->listen + ". What matters: ";
        for (const auto& c : point->controls)
            f.message +=
                std::string(&c == point->controls.data() ? "" : "; ") + c.key + " of " + c.stage + " (" + c.does + ")";
        f.message += ".";
        found.push_back(std::move(f));
    }
    panel.show(found, remedies, tr("Choose a rig or add a stage; what each does to the next is measured here."));
}

AuditionRequest RigBench::audition() const
{
    AuditionRequest out;
    out.kind = "rig";
    if (!session().isOpen() || !session().take()) return out;
    const std::string layer = session().layer()->name;
    out.subject =
        tr("%1 through %2")
            .arg(QString::fromStdString(layer), rig_.chain.empty() ? tr("no rig") : QString::fromStdString(rig_.name));
    const auto slot = [&](const QString& title, const RigDocument& rig) {
        LayerRecipe recipe = layerRecipe(session().folder(), *session().take(), rig);
        recipe.allowMissing = true;
        recipe.effort = Effort::Playing;
        out.slots_.push_back({title, [recipe](double from, double to, const Progress& p) {
                                  LayerRecipe r = recipe;
                                  r.startS = from, r.endS = to;
                                  RenderReport report;
                                  return renderToMemory(r, report, p);
                              }});
    };
    slot(tr("Dry"), {});
    if (rig_.chain.empty()) return out;
    // The version before this one, to hear what the last change did.
    const QString file = QString::fromStdString(session().layer()->rig);
    if (rig_.version > 1) {
        std::vector<std::string> ignored;
        const QString before = file.section(".v", 0, -2) + ".v" + QString::number(rig_.version - 1) + ".json";
        if (const auto old = session().folder().loadRig(before.toStdString(), Unknown::Bypass, ignored))
            slot(tr("v%1").arg(rig_.version - 1), *old);
    }
    slot(tr("v%1").arg(rig_.version), rig_);
    out.slots_.back().live = layerRecipe(session().folder(), *session().take(), rig_);
    out.active = out.slots_.size() - 1;
    return out;
}

} // namespace gristle::app
