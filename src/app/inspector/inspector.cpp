#include "app/inspector/inspector.h"

#include <algorithm>


#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QPushButton>

#include "app/inspector/dial.h"
#include "app/inspector/inspector_rows.h"
#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

constexpr int kWidth = 296;

struct Row {
    QWidget* row;
    QHBoxLayout* line;
    QLabel* name;
};

// Its name stands at the left; the field comes after it.
Row beginRow(QBoxLayout* below, const QString& label)
{
    auto* row = new QWidget;
    auto* line = new QHBoxLayout(row);
    line->setContentsMargins(0, 0, 0, 0);
    auto* name = new QLabel(label);
    name->setFont(theme::words(9));
    line->addWidget(name);
    below->addWidget(row);
    return {row, line, name};
}

}  // namespace

Inspector::Inspector(Editor& editor, QWidget* parent) : QScrollArea(parent), editor_(editor)
{
    setObjectName("inspector");
    setFixedWidth(kWidth);
    setWidgetResizable(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFocusPolicy(Qt::NoFocus);
    connect(&editor_, &Editor::selectionChanged, this, &Inspector::rebuild);
    connect(&editor_, &Editor::documentChanged, this, [this] {
        // A field that is being typed into must live on while its own edits come back.
        if (page_ == nullptr || page_->focusWidget() == nullptr || !page_->focusWidget()->hasFocus())
            rebuild();
    });
    connect(&editor_, &Editor::lanesChanged, this, [this] { page_->update(); });
    connect(&editor_, &Editor::pictureChanged, this, &Inspector::refresh);
    rebuild();
}

// What the running bench offers for the selected part: a current to show, a resistor to work out.
std::string Inspector::offers() const
{
    if (editor_.selection().parts.size() != 1)
        return {};
    const auto known = editor_.picture().parts.find(*editor_.selection().parts.begin());
    if (known == editor_.picture().parts.end())
        return {};
    return (known->second.measured ? "m" : "") + (known->second.series ? known->second.series->resistor : std::string());
}

void Inspector::rebuild()
{
    offered_ = offers();
    refreshers_.clear();
    page_ = new QWidget;
    page_->setObjectName("inspectorPage");
    layout_ = new QVBoxLayout(page_);
    layout_->setContentsMargins(18, 16, 16, 16);
    layout_->setSpacing(6);
    const bench::Selection& selection = editor_.selection();
    const bench::PartItem* part = selection.parts.size() == 1 && selection.wires.empty() ? editor_.document().part(*selection.parts.begin()) : nullptr;
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    if (kind != nullptr)
        showPart(*part, *kind);
    else if (selection.parts.empty() && selection.wires.size() == 1)
        showWire(*selection.wires.begin());
    else if (!selection.empty())
        showMany();
    else
        showBench();
    layout_->addStretch(1);
    // One of the old page's own fields may have brought this about, as it lost the focus: it goes when it has done, and says nothing more.
    if (QWidget* const old = takeWidget(); old != nullptr) {
        for (QObject* child : old->findChildren<QObject*>())
            child->blockSignals(true);
        old->hide();
        old->deleteLater();
    }
    setWidget(page_);
    refresh();
}

void Inspector::refresh()
{
    if (offers() != offered_ && (page_ == nullptr || page_->focusWidget() == nullptr || !page_->focusWidget()->hasFocus()))
        rebuild();
    for (const auto& r : refreshers_)
        r();
}

void Inspector::addTitle(const QString& title, const QString& about, const QByteArray& lanes)
{
    auto* label = new DragTitle(title, lanes);
    label->setFont(theme::words(13, QFont::DemiBold));
    label->setWordWrap(true);
    layout_->addWidget(label);
    if (!about.isEmpty()) {
        QLabel* text = addText(about);
        theme::dress(text, "color: @muted;");
    }
}

void Inspector::addHeading(const QString& text)
{
    auto* label = new QLabel(text.toUpper());
    QFont font = theme::words(7.8, QFont::DemiBold);
    font.setLetterSpacing(QFont::AbsoluteSpacing, 0.8);
    label->setFont(font);
    theme::dress(label, "color: @muted;");
    label->setContentsMargins(0, 12, 0, 2);
    layout_->addWidget(label);
}

QLabel* Inspector::addText(const QString& text)
{
    auto* label = new QLabel(text);
    label->setFont(theme::words(8.8));
    label->setWordWrap(true);
    layout_->addWidget(label);
    return label;
}

QWidget* Inspector::addRow(const QString& label, QWidget* field)
{
    const auto [row, line, name] = beginRow(layout_, label);
    if (label.contains('<')) {  // a name and a line about it, which may take two
        name->setWordWrap(true);
        name->setMinimumWidth(1);
    }
    line->setStretchFactor(name, 1);
    field->setFixedWidth(118);
    field->setFont(theme::figures(8.8));
    field->setAccessibleName(label.section('<', 0, 0));
    line->addWidget(field);
    return row;
}

// For words: the field takes what the label leaves, in the type of words.
QWidget* Inspector::addWideRow(const QString& label, QWidget* field)
{
    const auto [row, line, name] = beginRow(layout_, label);
    name->setMinimumWidth(54);
    field->setFont(theme::words(9));
    field->setAccessibleName(label);
    line->addWidget(field, 1);
    return row;
}

void Inspector::showBench()
{
    const bench::Document& d = editor_.document();
    addTitle(QString::fromStdString(d.title), editor_.file().isEmpty() ? tr("not saved yet") : QFileInfo(editor_.file()).fileName());

    addHeading(tr("Bench"));
    auto* title = new QLineEdit(QString::fromStdString(d.title));
    connect(title, &QLineEdit::editingFinished, this, [this, title] {
        const std::string text = title->text().trimmed().toStdString();
        if (!text.empty())
            editor_.change(tr("title"), [&](bench::Document& doc) { doc.title = text; });
    });
    addWideRow(tr("title"), title);
    auto* notes = new QPlainTextEdit(QString::fromStdString(d.notes));
    notes->setAccessibleName(tr("Notes"));
    notes->setPlaceholderText(tr("Notes"));
    notes->setFont(theme::words(8.8));
    notes->setFixedHeight(74);
    connect(notes, &QPlainTextEdit::textChanged, this, [this, notes] {
        const std::string text = notes->toPlainText().toStdString();
        editor_.change(tr("notes"), [&](bench::Document& doc) { doc.notes = text; }, "notes");
    });
    layout_->addWidget(notes);

    addHeading(tr("Chips"));
    QLabel* chips = addText({});
    chips->setTextFormat(Qt::RichText);
    refreshers_.emplace_back([this, chips] {
        QString text;
        for (const session::ChipPicture& chip : editor_.picture().chips)
            text += QString("<p style='margin:0 0 4px 0'><b>%1</b> %2, %3<br><span style='color:@muted'>%4</span></p>")
                        .arg(QString::fromStdString(chip.id), QString::fromStdString(chip.chip), quantity(static_cast<double>(chip.clockHz * chip.clocksPerCycle), kernel::Unit::hertz),
                             chip.firmwareFile.empty() ? tr("no firmware loaded") : QFileInfo(QString::fromStdString(chip.firmwareFile)).fileName());
        theme::write(chips, text.isEmpty() ? tr("none yet") : text);
    });

    addHeading(tr("Findings"));
    QLabel* findings = addText({});
    findings->setTextFormat(Qt::RichText);
    refreshers_.emplace_back([this, findings] {
        QString text;
        // Hundreds of them would take a tenth of a second to lay out at every edit; all stand in the drawer.
        constexpr int kShown = 12;
        int count = 0;
        for (const bench::Finding& f : editor_.picture().findings) {
            if (!f.muted.empty() || ++count > kShown)
                continue;
            // What begins with its place need not say it twice.
            const std::string message = f.message.starts_with(f.where + " ") ? f.message.substr(f.where.size() + 1) : f.message;
            text += QString("<p style='margin:0 0 6px 0'><b style='color:%1'>%2</b> %3</p>")
                        .arg(f.severity == bench::Severity::error ? "@rust" : f.severity == bench::Severity::warning ? "@warningInk" : "@muted",
                             QString::fromStdString(f.where).toHtmlEscaped(), QString::fromStdString(message).toHtmlEscaped());
        }
        if (count > kShown)
            text += tr("<p style='margin:0; color:@muted'>and %1 more, in the drawer</p>").arg(count - kShown);
        theme::write(findings, text.isEmpty() ? tr("Nothing noticed.") : text);
    });
}

void Inspector::showPart(const bench::PartItem& part, const bench::PartKind& kind)
{
    QByteArray lanes;  // its wired pins, but for supplies
    for (const bench::PinKind& pin : kind.pins)
        if (const bench::PinRef ref{part.id, pin.name}; !pin.ground && !pin.supplyVolts && std::any_of(editor_.document().wires.begin(), editor_.document().wires.end(), [&](const bench::WireItem& w) { return w.from == ref || w.to == ref; }))
            lanes += QByteArray::fromStdString(ref.text() + "\n");
    addTitle(QString::fromStdString(part.label.empty() ? part.id : part.label), QString::fromStdString(kind.title + ", " + kind.about), lanes);
    addControls(part, kind);
    addMeasured(part, kind);
    if (kind.chip == nullptr)
        addCounts(part, kind);
    addSeriesHelp(part);
    if (kind.chip != nullptr)
        addFirmware(part);
    addPins(part, kind);
    addSettings(part, kind);
}

void Inspector::showWire(std::size_t wire)
{
    const bench::WireItem& w = editor_.document().wires[wire];
    addTitle(tr("Wire"), QString::fromStdString(w.from.text() + " to " + w.to.text()), QByteArray::fromStdString(w.from.text()));
    QLabel* state = addText({});
    state->setFont(theme::figures(9));
    const bench::PinRef from = w.from;
    refreshers_.emplace_back([this, state, from] {
        const auto found = editor_.picture().pins.find(from);
        if (found != editor_.picture().pins.end())
            state->setText(tr("net %1\n%2").arg(QString::fromStdString(found->second.net), found->second.state == circuit::NetState::floating ? tr("floating") : quantity(found->second.volts, kernel::Unit::volt)));
    });
    addWireColours({wire});
    if (!w.via.empty()) {
        auto* tidy = new QPushButton(tr("Find its own way"));
        connect(tidy, &QPushButton::clicked, this, [this, wire] {
            editor_.change(tr("re-route"), [&](bench::Document& d) {
                if (wire < d.wires.size())
                    d.wires[wire].via.clear();
            });
        });
        layout_->addWidget(tidy);
    }
}

}  // namespace bramix::app
