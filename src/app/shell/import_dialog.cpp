#include "app/shell/import_dialog.h"

#include "app/theme/theme.h"
#include "app/widgets/column_share.h"
#include "core/actions/import_files.h"
#include "core/audio/audio_reader.h"
#include "core/session/layer_role.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialogButtonBox>
#include <QFileInfo>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QRegularExpression>
#include <QTableWidget>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kFile, kWhat, kSong, kPart, kLayer, kPlace, kGuitar, kPickup, kChannel };

const QRegularExpression& sideWords()
{
    static const QRegularExpression words("(?<![a-z])(left|right|links|rechts|l|r|center|centre|middle|mid)(?![a-z])",
                                          QRegularExpression::CaseInsensitiveOption);
    return words;
}

/// -100, 100 or 0 by the last word of the name that names a side; nothing where none does.
std::optional<double> placeFromName(const QString& name)
{
    std::optional<double> place;
    auto match = sideWords().globalMatch(name);
    while (match.hasNext()) {
        const QString word = match.next().captured(1).toLower();
        place = word.startsWith('l') ? -100.0 : word.startsWith('r') ? 100.0 : 0.0;
    }
    return place;
}

/// What is left of a name when side, take numbers and the like are taken off.
QString partFromName(QString name)
{
    name.remove(sideWords());
    name.remove(QRegularExpression("(?<![a-z])(di|dry|take|track|part|double)(?![a-z])",
                                   QRegularExpression::CaseInsensitiveOption));
    name.remove(QRegularExpression("\\d+"));
    name.replace(QRegularExpression("[_\\-.,()\\s]+"), " ");
    name = name.trimmed();
    if (!name.isEmpty()) name[0] = name[0].toUpper();
    return name;
}

/// What a file may be, in the words of the list.
struct What {
    LayerRole role;
    const char* source;
    const char* text;
    const char* inName; ///< words that make it likely, a part of a regular expression
};
constexpr std::array kWhats{
    What{LayerRole::Di, "guitar", QT_TRANSLATE_NOOP("ImportDialog", "guitar DI"), nullptr},
    What{LayerRole::Di, "bass", QT_TRANSLATE_NOOP("ImportDialog", "bass DI"), "bass[ _-]?di"},
    What{LayerRole::Di, "acoustic", QT_TRANSLATE_NOOP("ImportDialog", "acoustic DI"), "acoustic[ _-]?di"},
    What{LayerRole::Di, "keys", QT_TRANSLATE_NOOP("ImportDialog", "keys DI"), nullptr},
    What{LayerRole::Microphone, "guitar", QT_TRANSLATE_NOOP("ImportDialog", "microphone"),
         "mic|microphone|amp|cab|room"},
    What{LayerRole::Backing, "drums", QT_TRANSLATE_NOOP("ImportDialog", "drums"), "drums?|kit|percussion"},
    What{LayerRole::Backing, "bass", QT_TRANSLATE_NOOP("ImportDialog", "bass"), "bass"},
    What{LayerRole::Backing, "voice", QT_TRANSLATE_NOOP("ImportDialog", "voice"), "voice|vocals?|singer|choir"},
    What{LayerRole::Backing, "keys", QT_TRANSLATE_NOOP("ImportDialog", "keys"), "keys|piano|organ|synth"},
    What{LayerRole::Backing, "mix", QT_TRANSLATE_NOOP("ImportDialog", "the band"), "backing|band|playback|minus one"},
    What{LayerRole::Reference, "", QT_TRANSLATE_NOOP("ImportDialog", "reference"), "ref|reference"}};

/// The likeliest by the words in a name: the first kind whose words stand there.
const What& whatFromName(const QString& name)
{
    for (const What& what : kWhats)
        if (what.inName && QRegularExpression(QStringLiteral("(?<![a-z])(%1)(?![a-z])").arg(what.inName),
                                              QRegularExpression::CaseInsensitiveOption)
                               .match(name)
                               .hasMatch())
            return what;
    return kWhats.front();
}

/// Looks at the first seconds only, so that an hour does not hold up the window; the import looks at all of it.
FileSides channelsOf(const QString& file)
{
    FileSides out;
    auto reader = AudioReader::open(file.toStdString());
    if (!reader) return out;
    const AudioInfo& info = reader->info();
    const std::size_t channels = info.channels;
    out.count = int(channels);
    if (const auto said = saidPlace(file.toStdString(), BarGrid(120.0, "4/4")))
        out.saysWhere = said->stampS || said->songS;
    if (info.isTruncated())
        out.heldS = info.durationS(), out.promisedS = double(info.promisedFrames) / info.sampleRateHz;
    const auto block = reader->readInterleaved(std::size_t(reader->info().sampleRateHz) * 5);
    out.alike = channels > 1 && block && !block->empty();
    if (out.alike)
        for (std::size_t i = 0; i < block->size(); ++i)
            out.alike = out.alike && (*block)[i] == (*block)[i - i % channels];
    return out;
}

} // namespace

std::vector<ImportRow> guessRows(const QStringList& files, const SessionModel& session)
{
    std::vector<ImportRow> rows;
    const Layer* last = session.layer();
    QString sharedPart;
    for (const QString& file : files) {
        ImportRow row;
        row.file = file;
        const QString stem = QFileInfo(file).completeBaseName();
        row.song = session.song() ? QString::fromStdString(session.song()->name) : QObject::tr("Song 1");
        const What& what = whatFromName(stem);
        row.role = what.role, row.source = what.source;
        row.part = isOfTheBand(row.role) ? QObject::tr("Band") : partFromName(stem);
        if (sharedPart.isEmpty()) sharedPart = row.part;
        if (row.part.isEmpty()) row.part = sharedPart.isEmpty() ? QObject::tr("Rhythm") : sharedPart;
        const auto place = placeFromName(stem);
        // Two files without a side are most often the two sides.
        row.place = isOfTheBand(row.role) ? 0.0
                    : place               ? *place
                    : files.size() == 2   ? (rows.empty() ? -100.0 : 100.0)
                                          : 0.0;
        row.guitar = last ? QString::fromStdString(last->guitar) : QString();
        row.pickup = last ? QString::fromStdString(last->pickup) : QString();
        rows.push_back(row);
    }
    // Two files are two performances of one part, whatever small differences their names have.
    if (rows.size() == 2 && rows[0].part != rows[1].part &&
        (rows[0].part.startsWith(rows[1].part.left(3)) || rows[1].part.isEmpty()))
        rows[1].part = rows[0].part;
    std::map<QString, int> counts;
    const Part* part = session.part();
    for (ImportRow& row : rows) {
        const QString side = row.place < 0.0   ? QObject::tr("Left")
                             : row.place > 0.0 ? QObject::tr("Right")
                                               : QObject::tr("Middle");
        if (isOfTheBand(row.role)) {
            row.layer = QFileInfo(row.file).completeBaseName();
            continue;
        }
        int& n = counts[row.part + side];
        if (n == 0 && part && QString::fromStdString(part->name) == row.part)
            for (const Layer& l : part->layers)
                if (QString::fromStdString(l.name).startsWith(side)) ++n;
        row.layer = side + " " + QString::number(++n);
    }
    return rows;
}

ImportDialog::ImportDialog(std::vector<ImportRow> rows, QWidget* parent) : QDialog(parent), rows_(std::move(rows))
{
    setObjectName("importDialog");
    setWindowTitle(tr("Bring takes in"));
    resize(980, 150 + 40 * std::min<int>(8, int(rows_.size())) + 60);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(22, 18, 22, 16);
    auto* title = new QLabel(tr("What are these?"), this);
    title->setFont(Theme::instance().text(TextSize::Heading, true));
    column->addWidget(title);
    auto* about = new QLabel(tr("The files are copied into the session as they are and never changed. A layer that "
                                "exists takes the file as its next take."),
                             this);
    about->setProperty("tone", "2");
    column->addWidget(about);
    table_ = new QTableWidget(int(rows_.size()), 9, this);
    table_->setObjectName("importTable");
    table_->setAccessibleName(tr("Files and what they are"));
    table_->setHorizontalHeaderLabels({tr("file"), tr("what it is"), tr("song"), tr("part"), tr("layer"), tr("place"),
                                       tr("guitar"), tr("pickup"), tr("channel")});
    table_->verticalHeader()->hide();
    table_->setShowGrid(false);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft);
    table_->verticalHeader()->setDefaultSectionSize(36);
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        const ImportRow& row = rows_[i];
        const int r = int(i);
        auto* file = new QTableWidgetItem(QFileInfo(row.file).fileName());
        file->setFlags(Qt::ItemIsEnabled);
        file->setToolTip(row.file);
        table_->setItem(r, kFile, file);
        table_->setItem(r, kSong, new QTableWidgetItem(row.song));
        table_->setItem(r, kPart, new QTableWidgetItem(row.part));
        table_->setItem(r, kLayer, new QTableWidgetItem(row.layer));
        auto* place = new QComboBox(table_);
        place->setObjectName(QStringLiteral("place.%1").arg(r));
        place->setAccessibleName(tr("Place"));
        place->addItem(tr("left"), -100.0);
        place->addItem(tr("middle"), 0.0);
        place->addItem(tr("right"), 100.0);
        place->setCurrentIndex(row.place < 0.0 ? 0 : row.place > 0.0 ? 2 : 1);
        table_->setCellWidget(r, kPlace, place);
        table_->setItem(r, kGuitar, new QTableWidgetItem(row.guitar));
        table_->setItem(r, kPickup, new QTableWidgetItem(row.pickup));
        sides_.push_back(channelsOf(row.file));
        addWhat(r);
        fillChannels(r);
        const FileSides& channels = sides_.back();
        if (channels.heldS) {
            auto* box =
                new QCheckBox(tr("%1 breaks off: it holds %2 of the %3 s that its header says. Bring in what is there")
                                  .arg(QFileInfo(row.file).fileName())
                                  .arg(*channels.heldS, 0, 'f', 2)
                                  .arg(*channels.promisedS, 0, 'f', 2),
                              this);
            box->setObjectName(QStringLiteral("short.%1").arg(r));
            box->setToolTip(tr("Otherwise the file is left out: copy or export it again"));
            shorts_[i] = box;
        }
    }
    shareByContent(table_);
    column->addWidget(table_);
    for (const auto& [i, box] : shorts_) column->addWidget(box);
    if (std::ranges::any_of(sides_, &FileSides::saysWhere)) {
        byStamp_ =
            new QCheckBox(tr("Put files where their time stamps, or a bar or seconds in their names, say"), this);
        byStamp_->setObjectName("byStamp");
        byStamp_->setToolTip(tr("Otherwise they begin at bar 1. Of the first files of a song, bar 1 is the full hour "
                                "before the earliest stamp"));
        byStamp_->setChecked(std::ranges::all_of(sides_, &FileSides::saysWhere));
        column->addWidget(byStamp_);
    }
    auto* buttons = new QDialogButtonBox(this);
    auto* take = buttons->addButton(tr("Bring in"), QDialogButtonBox::AcceptRole);
    take->setObjectName("bringIn");
    take->setProperty("act", true);
    take->setDefault(true);
    buttons->addButton(tr("Leave it"), QDialogButtonBox::RejectRole);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    column->addWidget(buttons);
}

void ImportDialog::addWhat(int row)
{
    auto* what = new QComboBox(table_);
    what->setObjectName(QStringLiteral("what.%1").arg(row));
    what->setAccessibleName(tr("What it is"));
    what->setToolTip(
        tr("A DI goes through a rig; a microphone is heard as it is. The band and references are heard beside "
           "the guitars and never judged as one"));
    const ImportRow& own = rows_[std::size_t(row)];
    for (const What& w : kWhats) {
        what->addItem(tr(w.text));
        if (w.role == own.role && w.source == own.source) what->setCurrentIndex(what->count() - 1);
    }
    connect(what, &QComboBox::currentIndexChanged, this, [this, row](int index) {
        rows_[std::size_t(row)].role = kWhats[std::size_t(index)].role;
        rows_[std::size_t(row)].source = kWhats[std::size_t(index)].source;
        fillChannels(row);
    });
    table_->setCellWidget(row, kWhat, what);
}

/// What may be heard of the file, by what it is.
void ImportDialog::fillChannels(int row)
{
    auto* channel = new QComboBox(table_);
    channel->setAccessibleName(tr("Channel"));
    channel->setObjectName(QStringLiteral("channel.%1").arg(row));
    const FileSides& sides = sides_[std::size_t(row)];
    if (sides.count <= 1 || sides.alike) {
        channel->addItem(sides.count > 1 ? tr("all alike") : tr("mono"), 0);
    } else {
        if (sides.count == 2 && mayBeStereo(rows_[std::size_t(row)].role))
            channel->addItem(tr("stereo"), kBothChannels);
        for (int c = 1; c <= sides.count; ++c)
            channel->addItem(
                sides.count == 2 ? (c == 1 ? tr("left") : tr("right")) : tr("%1 of %2").arg(c).arg(sides.count), c);
        channel->addItem(tr("mean"), kMeanOfChannels);
    }
    table_->setCellWidget(row, kChannel, channel);
}

std::vector<ImportRow> ImportDialog::rows() const
{
    std::vector<ImportRow> out = rows_;
    for (std::size_t i = 0; i < out.size(); ++i) {
        const int r = int(i);
        const auto text = [&](int col) { return table_->item(r, col)->text().trimmed(); };
        out[i].song = text(kSong).isEmpty() ? out[i].song : text(kSong);
        out[i].part = text(kPart).isEmpty() ? out[i].part : text(kPart);
        out[i].layer = text(kLayer).isEmpty() ? out[i].layer : text(kLayer);
        out[i].guitar = text(kGuitar);
        out[i].pickup = text(kPickup);
        out[i].place = qobject_cast<QComboBox*>(table_->cellWidget(r, kPlace))->currentData().toDouble();
        out[i].channel = qobject_cast<QComboBox*>(table_->cellWidget(r, kChannel))->currentData().toInt();
        out[i].landsByStamp = byStamp_ && byStamp_->isChecked() && sides_[i].saysWhere;
    }
    for (auto at = shorts_.rbegin(); at != shorts_.rend(); ++at) {
        if (at->second->isChecked())
            out[at->first].takesShort = true;
        else
            out.erase(out.begin() + long(at->first));
    }
    return out;
}

} // namespace gristle::app
