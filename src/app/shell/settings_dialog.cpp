#include "app/shell/settings_dialog.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialogButtonBox>
#include <QDir>
#include <QFileDialog>
#include <QFormLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSettings>
#include <QSpinBox>

#include "app/shell/settings.h"
#include "app/shell/theme.h"

namespace bramix::app {

SettingsDialog::SettingsDialog(QWidget* parent) : QDialog(parent)
{
    setObjectName("settings");
    setWindowTitle(tr("Settings"));
    setAttribute(Qt::WA_DeleteOnClose);
    theme::dress(this, "QDialog#settings { background: @panel; }");
    auto* form = new QFormLayout(this);
    form->setContentsMargins(22, 18, 22, 16);
    form->setVerticalSpacing(10);
    form->setHorizontalSpacing(18);
    const auto spin = [&](const char* name, int least, int most, int now, const QString& unit) {
        auto* box = new QSpinBox;
        box->setObjectName(name);
        box->setRange(least, most);
        box->setValue(now);
        box->setSuffix(unit);
        return box;
    };
    auto* look = new QComboBox;
    look->setObjectName("look");
    look->addItems({tr("as the desktop has it"), tr("light"), tr("dark")});
    look->setCurrentIndex(static_cast<int>(settings::look()));
    form->addRow(tr("Theme"), look);
    auto* text = spin("textPercent", settings::kLeastText, settings::kMostText, settings::textPercent(), " %");
    text->setSingleStep(10);
    form->addRow(tr("Size of text"), text);
    auto* later = new QLabel(tr("from the next start"));
    later->setFont(theme::words(8.4));
    theme::dress(later, "color: @muted;");
    form->addRow(QString(), later);
    auto* pace = new QComboBox;
    pace->setObjectName("pace");
    pace->addItems({tr("in real time"), tr("at full speed")});
    pace->setCurrentIndex(settings::startsAtFullSpeed() ? 1 : 0);
    form->addRow(tr("A bench begins"), pace);
    auto* tape = spin("tapeMegabytes", settings::kLeastTape, settings::kMostTape, settings::tapeMegabytes(), " MB");
    tape->setSingleStep(64);
    tape->setToolTip(tr("A million edges take about one megabyte. Beyond, the oldest is dropped."));
    form->addRow(tr("The tape keeps at most"), tape);
    auto* autosave = spin("autosaveSeconds", settings::kLeastAutosave, settings::kMostAutosave, settings::autosaveSeconds(), " s");
    form->addRow(tr("Unsaved work is kept aside every"), autosave);
    auto* folder = new QLineEdit(settings::benchFolder());
    folder->setObjectName("benchFolder");
    folder->setAccessibleName(tr("Folder of benches"));
    folder->setMinimumWidth(300);
    auto* choose = new QPushButton(tr("Choose…"));
    auto* row = new QWidget;
    auto* line = new QHBoxLayout(row);
    line->setContentsMargins(0, 0, 0, 0);
    line->addWidget(folder, 1);
    line->addWidget(choose);
    form->addRow(tr("Folder of benches"), row);
    connect(choose, &QPushButton::clicked, this, [this, folder] {
        if (const QString chosen = QFileDialog::getExistingDirectory(this, tr("Folder of benches"), folder->text()); !chosen.isEmpty())
            folder->setText(chosen);
    });
    const auto check = [&](const char* name, const QString& words, bool now) {
        auto* box = new QCheckBox(words);
        box->setObjectName(name);
        box->setChecked(now);
        return box;
    };
    auto* gdb = check("portGdb", tr("GDB"), settings::mayOpen(settings::Port::gdb));
    auto* serial = check("portSerial", tr("serial lines"), settings::mayOpen(settings::Port::serial));
    auto* ports = new QWidget;
    ports->setToolTip(tr("A port is opened on this machine only (127.0.0.1), and only when you ask for it. What is not ticked is refused even then."));
    auto* portLine = new QHBoxLayout(ports);
    portLine->setContentsMargins(0, 0, 0, 0);
    portLine->setSpacing(18);
    portLine->addWidget(gdb);
    portLine->addWidget(serial);
    portLine->addStretch(1);
    form->addRow(tr("Ports may be opened for"), ports);
    auto* builds = new QPushButton(tr("Ask again before each build command"));
    builds->setToolTip(tr("Build commands of benches that were allowed once are asked about anew."));
    form->addRow(tr("Allowed so far"), builds);
    connect(builds, &QPushButton::clicked, this, [builds] {
        QSettings().remove("build/allowed");
        builds->setText(SettingsDialog::tr("They will be asked about"));
        builds->setEnabled(false);
    });
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Save | QDialogButtonBox::Cancel);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(buttons, &QDialogButtonBox::accepted, this, [this, look, text, pace, tape, autosave, folder, gdb, serial] {
        QSettings s;
        s.setValue("look/theme", QStringList{"desktop", "light", "dark"}[look->currentIndex()]);
        s.setValue("look/text", text->value());
        s.setValue("run/fullSpeed", pace->currentIndex() == 1);
        s.setValue("tape/megabytes", tape->value());
        s.setValue("autosave/seconds", autosave->value());
        s.setValue("benches/folder", folder->text());
        s.setValue("ports/gdb", gdb->isChecked());
        s.setValue("ports/serial", serial->isChecked());
        emit applied();
        accept();
    });
}

}  // namespace bramix::app
