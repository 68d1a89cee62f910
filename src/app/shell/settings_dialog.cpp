#include "app/shell/settings_dialog.h"

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

#include "app/shell/theme.h"
#include "session/live_session.h"

namespace bramix::app {

namespace settings {

namespace {

constexpr int kLeastText = 80, kMostText = 160;
constexpr int kLeastTape = 8, kMostTape = 16'384;
constexpr int kLeastAutosave = 1, kMostAutosave = 60, kUsualAutosave = 1;

int number(const char* key, int usual, int least, int most) { return std::clamp(QSettings().value(key, usual).toInt(), least, most); }

}  // namespace

int textPercent() { return number("look/text", 100, kLeastText, kMostText); }
bool startsAtFullSpeed() { return QSettings().value("run/fullSpeed", false).toBool(); }
int tapeMegabytes() { return number("tape/megabytes", static_cast<int>(session::LiveSession::kTapeBytes >> 20U), kLeastTape, kMostTape); }
int autosaveSeconds() { return number("autosave/seconds", kUsualAutosave, kLeastAutosave, kMostAutosave); }
QString benchFolder() { return QSettings().value("benches/folder", QDir::homePath()).toString(); }

}  // namespace settings

SettingsDialog::SettingsDialog(QWidget* parent) : QDialog(parent)
{
    setObjectName("settings");
    setWindowTitle(tr("Settings"));
    setAttribute(Qt::WA_DeleteOnClose);
    setStyleSheet("QDialog#settings { background: #ECE5D8; }");
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
    auto* text = spin("textPercent", settings::kLeastText, settings::kMostText, settings::textPercent(), " %");
    text->setSingleStep(10);
    form->addRow(tr("Size of text"), text);
    auto* later = new QLabel(tr("from the next start"));
    later->setFont(theme::words(8.4));
    later->setStyleSheet("color: #6F6577;");
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
    connect(buttons, &QDialogButtonBox::accepted, this, [this, text, pace, tape, autosave, folder] {
        QSettings s;
        s.setValue("look/text", text->value());
        s.setValue("run/fullSpeed", pace->currentIndex() == 1);
        s.setValue("tape/megabytes", tape->value());
        s.setValue("autosave/seconds", autosave->value());
        s.setValue("benches/folder", folder->text());
        emit applied();
        accept();
    });
}

}  // namespace bramix::app
