// What the inspector shows of several parts and wires.
#include "app/inspector/inspector.h"

#include <algorithm>
#include <utility>

#include <QComboBox>
#include <QHBoxLayout>
#include <QLineEdit>

#include "app/inspector/inspector_rows.h"
#include "kernel/units.h"

namespace bramix::app {

void Inspector::addWireColours(const std::set<std::size_t>& wires)
{
    addHeading(tr("Colour"));
    auto* row = new QWidget;
    auto* line = new QHBoxLayout(row);
    line->setContentsMargins(0, 0, 0, 0);
    line->setSpacing(4);
    const std::vector<bench::WireItem>& all = editor_.document().wires;
    for (const std::string& color : bench::wireColors()) {
        const bool chosen = std::all_of(wires.begin(), wires.end(), [&](std::size_t w) { return w < all.size() && all[w].color == color; });
        auto* swatch = new Swatch(color, chosen);
        swatch->setAccessibleName(QString::fromStdString(color));
        connect(swatch, &QPushButton::clicked, this, [this, wires, color] {
            editor_.change(tr("colour"), [&](bench::Document& d) {
                for (const std::size_t wire : wires)
                    if (wire < d.wires.size())
                        d.wires[wire].color = color;
            });
        });
        line->addWidget(swatch);
    }
    line->addStretch(1);
    layout_->addWidget(row);
}

// What several selected parts and wires have in common: set for all of them at once.
void Inspector::showMany()
{
    const bench::Selection& s = editor_.selection();
    addTitle(s.wires.empty() ? tr("%1 parts").arg(s.parts.size()) : s.parts.empty() ? tr("%1 wires").arg(s.wires.size()) : tr("%1 parts, %2 wires").arg(s.parts.size()).arg(s.wires.size()), tr("R rotates, Ctrl+D duplicates, Del removes, arrow keys move by one step"));
    if (!s.wires.empty())
        addWireColours(s.wires);
    std::vector<std::pair<const bench::PartItem*, const bench::PartKind*>> parts;
    for (const std::string& id : s.parts)
        if (const bench::PartItem* part = editor_.document().part(id))
            if (const bench::PartKind* kind = editor_.catalogue().find(part->kind))
                parts.emplace_back(part, kind);
    if (parts.empty())
        return;
    bool any = false;
    for (const bench::SettingKind& setting : parts.front().second->settings) {
        QString common;
        bool shared = true, same = true;
        for (const auto& [part, kind] : parts) {
            const auto own = std::find_if(kind->settings.begin(), kind->settings.end(), [&](const bench::SettingKind& k) { return k.name == setting.name && k.type == setting.type && k.choices == setting.choices; });
            if (own == kind->settings.end()) {
                shared = false;
                break;
            }
            const auto given = part->set.find(setting.name);
            const QString value = QString::fromStdString(given != part->set.end() ? given->second : own->standard);
            same = same && (part == parts.front().first || value == common);
            common = value;
        }
        if (!shared || setting.type == "fuse")
            continue;
        if (!std::exchange(any, true))
            addHeading(tr("Settings of all"));
        const auto apply = [this, ids = s.parts, name = setting.name](const std::string& value) {
            editor_.change(tr("setting of several"), [&](bench::Document& d) {
                for (const std::string& id : ids)
                    if (bench::PartItem* p = d.part(id))
                        p->set[name] = value;
            });
        };
        if (setting.type == "choice") {
            auto* box = new QComboBox;
            box->setObjectName("many-" + QString::fromStdString(setting.name));
            if (!same)
                box->addItem(tr("different"));
            for (const std::string& choice : setting.choices)
                box->addItem(QString::fromStdString(choice));
            if (same)
                box->setCurrentText(common);
            connect(box, &QComboBox::textActivated, this, [apply](const QString& text) {
                if (text != tr("different"))
                    apply(text.toStdString());
            });
            addRow(QString::fromStdString(setting.label), box);
            continue;
        }
        auto* line = new QLineEdit(same ? common : QString());
        line->setObjectName("many-" + QString::fromStdString(setting.name));
        line->setPlaceholderText(tr("different"));
        connect(line, &QLineEdit::editingFinished, this, [this, line, apply, type = setting.type, before = line->text()] {
            const std::string value = line->text().trimmed().toStdString();
            if (value.empty() || line->text() == before)
                return;
            if (kernel::unitNamed(type) != kernel::Unit::none)
                if (const auto q = kernel::parseQuantity(value, kernel::unitNamed(type)); !q) {
                    emit editor_.message(QString::fromStdString(q.error().what), true);
                    line->setText(before);
                    return;
                }
            apply(value);
        });
        addRow(QString::fromStdString(setting.label), line);
    }
}

}  // namespace bramix::app
