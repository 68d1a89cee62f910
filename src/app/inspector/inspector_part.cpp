// What the inspector shows of one part: its controls, measures, counts, firmware, pins and settings.
#include "app/inspector/inspector.h"

#include <algorithm>
#include <cmath>
#include <set>
#include <utility>

#include <QComboBox>
#include <QFileInfo>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

#include "app/inspector/dial.h"
#include "app/inspector/inspector_rows.h"
#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

void Inspector::addDial(const std::string& part, const bench::ControlKind& control)
{
    const std::string name = part + "." + control.name;
    auto* dial = new Dial(editor_, part, control, unfolded_.contains(name));
    connect(dial, &Dial::unfoldedChanged, this, [this, name](bool on) {
        if (on)
            unfolded_.insert(name);
        else
            unfolded_.erase(name);
    });
    refreshers_.emplace_back([dial] { dial->refresh(); });
    layout_->addWidget(dial);
}

void Inspector::addControls(const bench::PartItem& part, const bench::PartKind& kind)
{
    if (kind.controls.empty() && kind.behaviour != "led")
        return;
    addHeading(kind.controls.empty() ? tr("Light") : tr("Live controls"));
    const std::string id = part.id;
    for (const bench::ControlKind& control : kind.controls) {
        const std::string name = control.name;
        const QString high = QString::fromStdString(control.high);
        const QString low = QString::fromStdString(control.low);
        if (control.type == "dial") {
            addDial(id, control);
            continue;
        }
        if (control.type == "choice") {
            auto* box = new QComboBox;
            box->setObjectName("control-" + QString::fromStdString(name));
            box->setFocusPolicy(Qt::NoFocus);
            for (const std::string& word : control.choices)
                box->addItem(QString::fromStdString(word));
            connect(box, &QComboBox::activated, this, [this, id, name](int index) { editor_.setControl(id, name, index); });
            refreshers_.emplace_back([this, box, id, name] {
                const auto now = editor_.picture().controls.find(id + "." + name);
                if (now != editor_.picture().controls.end() && !box->view()->isVisible())
                    box->setCurrentIndex(static_cast<int>(now->second));
            });
            addRow(QString::fromStdString(control.label), box);
            continue;
        }
        auto* button = new QPushButton(QString::fromStdString(control.label));
        button->setFocusPolicy(Qt::NoFocus);
        button->setObjectName("control-" + QString::fromStdString(name));
        if (control.type == "hold") {
            button->setText(tr("%1 (hold)").arg(QString::fromStdString(control.label)));
            connect(button, &QPushButton::pressed, this, [this, id, name] { editor_.setControl(id, name, 1); });
            connect(button, &QPushButton::released, this, [this, id, name] { editor_.setControl(id, name, 0); });
        } else {
            connect(button, &QPushButton::clicked, this, [this, id, name] {
                const auto now = editor_.picture().controls.find(id + "." + name);
                editor_.setControl(id, name, now != editor_.picture().controls.end() && now->second != 0 ? 0 : 1);
            });
        }
        layout_->addWidget(button);
        refreshers_.emplace_back([this, button, id, name, high, low, control] {
            const auto now = editor_.picture().controls.find(id + "." + name);
            const bool on = now != editor_.picture().controls.end() && now->second != 0;
            if (control.type != "hold")
                button->setText(QString("%1: %2").arg(QString::fromStdString(control.label), on ? high : low));
        });
    }
    if (kind.behaviour == "led") {
        QLabel* light = addText({});
        light->setFont(theme::figures(9));
        refreshers_.emplace_back([this, light, id] {
            for (const session::LightPicture& l : editor_.picture().lights)
                if (l.part == id)
                    light->setText(tr("%1 on average\n%2 % as the eye sees it").arg(quantity(l.amps, kernel::Unit::ampere)).arg(std::lround(l.brightness * 100)));
        });
    }
}

// What the part does just now: its current and power, what it shows, and whether it has burnt through.
void Inspector::addMeasured(const bench::PartItem& part, const bench::PartKind& kind)
{
    const auto known = editor_.picture().parts.find(part.id);
    if (kind.behaviour.empty() || known == editor_.picture().parts.end() || (!known->second.measured && known->second.face.empty()))
        return;
    addHeading(tr("Now"));
    const std::string id = part.id;
    QLabel* text = addText({});
    text->setObjectName("measured");
    text->setFont(theme::figures(9));
    auto* replace = new QPushButton(tr("Replace it with a new one"));
    replace->setObjectName("replace");
    replace->setFocusPolicy(Qt::NoFocus);
    connect(replace, &QPushButton::clicked, this, [this, id] { editor_.replacePart(id); });
    layout_->addWidget(replace);
    refreshers_.emplace_back([this, text, replace, id] {
        const auto now = editor_.picture().parts.find(id);
        if (now == editor_.picture().parts.end())
            return;
        const session::PartPicture& p = now->second;
        QStringList lines;
        if (p.dead)
            lines << tr("burnt through: it conducts no more");
        if (!p.face.empty())
            lines << tr("shows %1").arg(QString::fromStdString(p.face));
        if (p.measured && !p.dead)
            lines << tr("%1, %2").arg(quantity(p.amps, kernel::Unit::ampere), quantity(p.watts, kernel::Unit::watt));
        text->setText(lines.join('\n'));
        replace->setVisible(p.dead);
    });
}

// On an LED: the resistor for a current, worked out in front of the person, and a click that puts it in.
// Where a divider or a sensor leads to an analog input: the count that it converts to.
void Inspector::addCounts(const bench::PartItem& part, const bench::PartKind& kind)
{
    static const std::set<std::string, std::less<>> kAnalog{"resistor", "potentiometer", "sensing-resistor", "analog-thermometer", "water-level", "joystick", "capacitor", "op-amp", "generator", "battery", "bench-supply"};
    if (!kAnalog.contains(kind.behaviour))
        return;
    QLabel* counts = addText({});
    refreshers_.emplace_back([this, counts, id = part.id, &kind] {
        const auto& pins = editor_.picture().pins;
        QStringList lines;
        for (const bench::PinKind& own : kind.pins) {
            const auto here = pins.find({id, own.name});
            if (here == pins.end() || here->second.supply)
                continue;
            for (const auto& [ref, pin] : pins)
                if (pin.adcCount >= 0 && !pin.drives && pin.net == here->second.net && ref.part != id)
                    lines << tr("%1 converts %2 to %3 of 1023, against %4")
                                 .arg(QString::fromStdString(ref.text()), quantity(pin.volts, kernel::Unit::volt))
                                 .arg(pin.adcCount)
                                 .arg(quantity(pin.adcReference, kernel::Unit::volt));
        }
        lines.removeDuplicates();
        counts->setText(lines.join('\n'));
        counts->setVisible(!lines.isEmpty());
    });
}

void Inspector::addSeriesHelp(const bench::PartItem& part)
{
    const auto known = editor_.picture().parts.find(part.id);
    if (known == editor_.picture().parts.end() || !known->second.series)
        return;
    addHeading(tr("Series resistor"));
    const std::string resistor = known->second.series->resistor;
    const std::string id = part.id;
    auto* wanted = new QLineEdit("10mA");
    wanted->setObjectName("series-current");
    addRow(tr("current wanted"), wanted);
    QLabel* working = addText({});
    working->setFont(theme::figures(8.6));
    working->setToolTip(tr("(drive voltage − the LED's own at this current) / current − resistance of the output"));
    std::vector<std::pair<int, QPushButton*>> buttons;
    for (const int series : {12, 24, 96}) {
        auto* b = new QPushButton;
        b->setObjectName(QString("series-E%1").arg(series));
        b->setFocusPolicy(Qt::NoFocus);
        layout_->addWidget(b);
        buttons.emplace_back(series, b);
        connect(b, &QPushButton::clicked, this, [this, b, resistor] {
            const std::string value = b->property("value").toString().toStdString();
            editor_.change(tr("resistance"), [&](bench::Document& d) {
                if (bench::PartItem* p = d.part(resistor))
                    p->set["resistance"] = value;
            });
        });
    }
    refreshers_.emplace_back([this, wanted, working, buttons, id] {
        const auto now = editor_.picture().parts.find(id);
        if (now == editor_.picture().parts.end() || !now->second.series)
            return;
        const bench::SeriesPath& path = *now->second.series;
        const auto amps = kernel::parseQuantity(wanted->text().toStdString(), kernel::Unit::ampere);
        std::optional<double> ohms;
        if (amps && *amps > 1e-6 && *amps < 10)
            ohms = path.ohmsFor(*amps);
        for (const auto& [series, button] : buttons)
            button->setEnabled(ohms.has_value());
        if (!amps || *amps <= 1e-6 || *amps >= 10) {
            working->setText(tr("a current, such as 10mA"));
            return;
        }
        if (!ohms) {
            working->setText(tr("%1 cannot drive %2 through this LED").arg(quantity(path.volts, kernel::Unit::volt), quantity(*amps, kernel::Unit::ampere)));
            return;
        }
        const double across = path.volts - *amps * (*ohms + path.driveOhms);
        working->setText(tr("(%1 − %2) / %3 − %4\n= %5;  %6 is %7 now")
                             .arg(quantity(path.volts, kernel::Unit::volt), quantity(across, kernel::Unit::volt), quantity(*amps, kernel::Unit::ampere), quantity(path.driveOhms, kernel::Unit::ohm),
                                  quantity(*ohms, kernel::Unit::ohm), QString::fromStdString(path.resistor), quantity(path.ohms, kernel::Unit::ohm)));
        for (const auto& [series, button] : buttons) {
            const double value = bench::nearestPreferred(*ohms, series);
            button->setProperty("value", QString::fromStdString(kernel::formatCompact(value)));
            button->setText(tr("E%1: %2 gives %3").arg(series).arg(quantity(value, kernel::Unit::ohm), quantity(path.ampsWith(value), kernel::Unit::ampere)));
        }
    });
}

void Inspector::addFirmware(const bench::PartItem& part)
{
    addHeading(tr("Firmware"));
    const std::string id = part.id;
    QLabel* name = addText({});
    name->setFont(theme::figures(8.8));
    refreshers_.emplace_back([this, name, id] {
        for (const session::ChipPicture& chip : editor_.picture().chips)
            if (chip.id == id) {
                QString text = chip.firmwareFile.empty() ? tr("none loaded") : QFileInfo(QString::fromStdString(chip.firmwareFile)).fileName();
                text += QString("\n%1  0x%2%3").arg(chip.inReset ? tr("in reset") : chip.sleeping ? tr("asleep") : tr("at")).arg(chip.pc, 4, 16, QChar('0')).arg(
                    chip.place.empty() ? QString() : "  " + QString::fromStdString(chip.place));
                if (const double span = kernel::seconds(editor_.picture().now); span > 0)
                    text += tr("\ntakes %1; without its pins %2 on average").arg(quantity(chip.amps, kernel::Unit::ampere), quantity(chip.coulombs / span, kernel::Unit::ampere));
                name->setText(text);
            }
    });
    auto* load = new QPushButton(tr("Load firmware…"));
    load->setFocusPolicy(Qt::NoFocus);
    connect(load, &QPushButton::clicked, this, [this, id] { emit firmwareWanted(id); });
    layout_->addWidget(load);
    auto* describe = new QPushButton(part.registers.empty() ? tr("Describe registers…") : tr("Registers by %1").arg(QFileInfo(QString::fromStdString(part.registers)).fileName()));
    describe->setObjectName("describeRegisters");
    describe->setFocusPolicy(Qt::NoFocus);
    describe->setToolTip(part.registers.empty() ? tr("Take the names and meanings of its registers from an SVD file") : tr("Choose another SVD file, or go back to the registers that Bramix knows"));
    connect(describe, &QPushButton::clicked, this, [this, id] { emit registersWanted(id); });
    layout_->addWidget(describe);
}

void Inspector::addPins(const bench::PartItem& part, const bench::PartKind& kind)
{
    addHeading(tr("Pins"));
    auto* list = new QWidget;
    auto* rows = new QVBoxLayout(list);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(0);
    layout_->addWidget(list);
    for (const bench::PinKind& pin : kind.pins) {
        QString about = QString::fromStdString(pin.about);
        if (!pin.aliases.empty())
            about = QString::fromStdString(pin.aliases.back()) + "  " + about;
        auto* row = new PinRow(editor_, {part.id, pin.name}, about);
        rows->addWidget(row);
        refreshers_.emplace_back([row] { row->update(); });
    }
}

// The part in the drawer may have its legs in another order.
void Inspector::addOrder(const bench::PartItem& part, const bench::PartKind& kind)
{
    QStringList names;
    for (const bench::PinKind& pin : kind.pins)
        names << QString::fromStdString(pin.name);
    const auto now = [this, names, id = part.id] {
        QStringList own;
        if (const bench::PartItem* p = editor_.document().part(id))
            for (const std::string& name : p->order)
                own << QString::fromStdString(name);
        return (own.isEmpty() ? names : own).join(' ');
    };
    auto* line = new QLineEdit(now());
    line->setObjectName("pin-order");
    line->setToolTip(tr("The pins in the order in which they follow each other on your part; drawn in the order %1").arg(names.join(' ')));
    connect(line, &QLineEdit::editingFinished, this, [this, line, now, names, id = part.id, kind = &kind] {
        const QStringList typed = line->text().split(' ', Qt::SkipEmptyParts);
        if (typed.join(' ') == now())
            return;
        std::vector<std::string> order;
        if (typed != names)
            for (const QString& name : typed)
                order.push_back(name.toStdString());
        if (const auto ok = bench::checkOrder(order, *kind); !ok) {
            emit editor_.message(QString::fromStdString(ok.error().text()), true);
            line->setText(now());
            return;
        }
        editor_.change(tr("order of pins"), [&](bench::Document& d) {
            if (bench::PartItem* p = d.part(id))
                p->order = order;
        });
    });
    addRow(tr("order"), line);
}

void Inspector::addSettings(const bench::PartItem& part, const bench::PartKind& kind)
{
    addHeading(tr("Settings"));
    const std::string id = part.id;
    auto* name = new QLineEdit(QString::fromStdString(part.id));
    name->setObjectName("part-id");
    connect(name, &QLineEdit::editingFinished, this, [this, name, id] {
        const std::string wanted = name->text().trimmed().toStdString();
        if (wanted == id)
            return;
        bool good = false;
        editor_.change(tr("rename"), [&](bench::Document& d) { good = bench::renamePart(d, id, wanted); });
        if (good)
            editor_.select({{wanted}, {}});
        else {
            emit editor_.message(tr("\"%1\" cannot be a name here: it is taken, empty, or has a point in it").arg(name->text()), true);
            name->setText(QString::fromStdString(id));
        }
    });
    addRow(tr("name"), name);
    auto* label = new QLineEdit(QString::fromStdString(part.label));
    label->setPlaceholderText(tr("none"));
    connect(label, &QLineEdit::editingFinished, this, [this, label, id] {
        editor_.change(tr("label"), [&](bench::Document& d) {
            if (bench::PartItem* p = d.part(id))
                p->label = label->text().toStdString();
        });
    });
    addWideRow(tr("label"), label);
    bool fusesBegun = false;
    for (const bench::SettingKind& setting : kind.settings) {
        if (setting.type == "fuse" && !std::exchange(fusesBegun, true)) {
            addHeading(tr("Fuses"));
            addText(tr("As on the chip, 0 is programmed."));
        }
        const std::string key = setting.name;
        const std::string standard = setting.standard;
        const auto given = part.set.find(key);
        const QString now = QString::fromStdString(given != part.set.end() ? given->second : standard);
        const auto apply = [this, id, key, standard](const std::string& value) {
            editor_.change(tr("setting"), [&](bench::Document& d) {
                if (bench::PartItem* p = d.part(id)) {
                    if (value == standard)
                        p->set.erase(key);
                    else
                        p->set[key] = value;
                }
            });
        };
        if (setting.type == "choice") {
            auto* box = new QComboBox;
            box->setObjectName("setting-" + QString::fromStdString(key));
            for (const std::string& choice : setting.choices)
                box->addItem(QString::fromStdString(choice));
            box->setCurrentText(now);
            connect(box, &QComboBox::textActivated, this, [apply](const QString& text) { apply(text.toStdString()); });
            addRow(QString::fromStdString(setting.label), box);
            continue;
        }
        auto* line = new QLineEdit(now);
        line->setObjectName("setting-" + QString::fromStdString(key));
        const std::string type = setting.type;
        if (type == "text") {
            connect(line, &QLineEdit::editingFinished, this, [line, now, apply] {
                if (line->text() != now)
                    apply(line->text().toStdString());
            });
            addWideRow(QString::fromStdString(setting.label), line);
            continue;
        }
        line->setToolTip(QString::fromStdString(setting.about));
        connect(line, &QLineEdit::editingFinished, this, [this, line, now, apply, type, key, chip = kind.chip, optionBytes = kind.options] {
            const std::string value = line->text().trimmed().toStdString();
            if (value == now.toStdString())
                return;
            std::string wrong;
            if (kernel::unitNamed(type) != kernel::Unit::none) {
                if (const auto q = kernel::parseQuantity(value, kernel::unitNamed(type)); !q)
                    wrong = q.error().what;
            } else if (type == "fuse") {
                auto bytes = optionBytes;
                if (const auto ok = chip::setOption(*chip, bytes, key, value); !ok)
                    wrong = key + ": " + ok.error().what;
            } else if (type == "bounce" && value != "off") {
                if (const auto t = kernel::parseDuration(value); !t)
                    wrong = t.error().what + ", or \"off\"";
            }
            if (!wrong.empty()) {
                emit editor_.message(QString::fromStdString(wrong), true);
                line->setText(now);
                return;
            }
            apply(value);
        });
        QString text = QString::fromStdString(setting.label).toHtmlEscaped();
        if (!setting.about.empty())
            text += QString("<br><span style='color:@muted; font-size:8pt'>%1</span>").arg(QString::fromStdString(setting.about).toHtmlEscaped());
        addRow(text, line);
    }
    const bool hasHold = std::any_of(kind.controls.begin(), kind.controls.end(), [](const bench::ControlKind& c) { return c.type == "hold"; });
    if (hasHold) {
        auto* key = new QLineEdit(QString::fromStdString(part.key));
        key->setPlaceholderText(tr("none"));
        key->setMaxLength(1);
        connect(key, &QLineEdit::editingFinished, this, [this, key, id] {
            editor_.change(tr("key"), [&](bench::Document& d) {
                if (bench::PartItem* p = d.part(id))
                    p->key = key->text().toUpper().toStdString();
            });
        });
        addRow(tr("key"), key);
    }
    // Needed rarely, so it stands last.
    if (kind.chip == nullptr && !kind.plugs && kind.pins.size() > 1)
        addOrder(part, kind);
}

}  // namespace bramix::app
