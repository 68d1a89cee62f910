#include "app/code/build_pane.h"

#include <set>

#include <QCryptographicHash>
#include <QDir>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QMenu>
#include <QRegularExpression>
#include <QSettings>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "bench/new_bench.h"
#include "chip/family.h"
#include "kernel/files.h"

namespace bramix::app {

namespace {

constexpr std::size_t kLargestScript = 1U << 20U;
// What says what a build command does.
constexpr const char* kBuildFiles[] = {"Makefile", "makefile", "GNUmakefile", "CMakeLists.txt", "build.sh"};

constexpr int kFile = Qt::UserRole, kLine = Qt::UserRole + 1;
constexpr int kMostLines = 5000;

}  // namespace

BuildPane::BuildPane(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    auto* head = new QHBoxLayout;
    title_ = new QLabel(tr("Not built yet"));
    title_->setFont(theme::words(8.4));
    title_->setWordWrap(true);  // the pane is narrow: the buttons stand below
    auto* start = new QPushButton(tr("Build"));
    start->setToolTip(tr("Build, load and restart (Ctrl+B)"));
    auto* how = new QPushButton(tr("Build settings…"));
    how->setObjectName("buildHow");
    how->setToolTip(tr("What builds this bench's firmware: what was found, or a command of your own"));
    for (QPushButton* b : {start, how}) {
        b->setFocusPolicy(Qt::NoFocus);
        b->setFont(theme::words(8.6));
    }
    head->addWidget(start);
    head->addWidget(how);
    head->addStretch(1);
    rows->addWidget(title_);
    rows->addLayout(head);
    command_ = new QLineEdit;
    command_->setObjectName("buildCommand");
    command_->setFont(theme::figures(8.6));
    command_->setPlaceholderText(tr("a command, run in the bench's folder; empty: what lies beside the firmware"));
    command_->hide();
    rows->addWidget(command_);
    output_ = new QListWidget;
    output_->setAccessibleName(tr("What the build said"));
    output_->setObjectName("buildOutput");
    output_->setFont(theme::figures(8.2));
    output_->setFocusPolicy(Qt::ClickFocus);
    output_->setStyleSheet("QListWidget::item { padding: 1px 4px; }");
    output_->setWordWrap(true);
    rows->addWidget(output_, 1);
    consent_ = new QWidget;
    consent_->setObjectName("buildConsent");
    // The pane is narrow: the question above, the answers below.
    auto* asks = new QVBoxLayout(consent_);
    asks->setContentsMargins(0, 0, 0, 0);
    asks->setSpacing(4);
    auto* answers = new QHBoxLayout;
    auto* question = new QLabel(tr("This bench wants to run the command below, with your rights."));
    question->setFont(theme::words(8.6));
    question->setWordWrap(true);
    auto* yes = new QPushButton(tr("Allow and build"));
    yes->setObjectName("buildAllow");
    auto* no = new QPushButton(tr("Not now"));
    no->setObjectName("buildRefuse");
    asks->addWidget(question);
    asks->addLayout(answers);
    for (QPushButton* b : {yes, no}) {
        b->setFont(theme::words(8.6));
        answers->addWidget(b);
    }
    answers->addStretch(1);
    consent_->hide();
    rows->insertWidget(rows->count() - 1, consent_);
    connect(yes, &QPushButton::clicked, this, &BuildPane::allowAndBuild);
    connect(no, &QPushButton::clicked, this, [this] {
        consent_->hide();
        title_->setText(tr("Not built: its command is not allowed"));
    });
    process_.setProcessChannelMode(QProcess::MergedChannels);
    connect(start, &QPushButton::clicked, this, &BuildPane::build);
    connect(how, &QPushButton::clicked, this, [this, how] { offerWays(how->mapToGlobal(QPoint(0, how->height()))); });
    connect(command_, &QLineEdit::returnPressed, this, [this] {
        setCommand(command_->text().trimmed());
        command_->hide();
    });
    connect(&process_, &QProcess::readyReadStandardOutput, this, [this] { take(process_.readAllStandardOutput()); });
    connect(&process_, &QProcess::finished, this, &BuildPane::finished);
    connect(&process_, &QProcess::errorOccurred, this, [this](QProcess::ProcessError error) {
        if (error == QProcess::FailedToStart) {
            line(tr("The shell could not be started."));
            emit built(false);
        }
    });
    connect(output_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) {
        if (item->data(kLine).toInt() > 0)
            emit placeChosen(item->data(kFile).toString(), item->data(kLine).toInt());
    });
}

QStringList BuildPane::folders() const
{
    const QString folder = editor_.folder();
    QStringList out;
    for (const bench::PartItem& part : editor_.document().parts)
        if (!part.firmware.empty()) {
            QDir up = QFileInfo(QDir(folder).absoluteFilePath(QString::fromStdString(part.firmware))).dir();
            out << up.path();
            if (up.cdUp())
                out << up.path();
        }
    out << folder << QDir(folder).filePath("firmware");
    out.removeDuplicates();
    return out;
}

std::vector<BuildPane::Plan> BuildPane::found(const QString& folder)
{
    std::vector<Plan> out;
    for (const char* name : {"Makefile", "makefile", "GNUmakefile"})
        if (out.empty() && QFileInfo::exists(QDir(folder).filePath(name)))
            out.push_back({folder, "make"});
    if (QFileInfo::exists(QDir(folder).filePath("CMakeLists.txt")))
        out.push_back({folder, "cmake -S . -B build && cmake --build build"});
    if (QFileInfo::exists(QDir(folder).filePath("build.sh")))
        out.push_back({folder, "sh build.sh"});
    return out;
}

BuildPane::Plan BuildPane::plan() const
{
    if (!editor_.document().build.empty())
        return {editor_.folder(), QString::fromStdString(editor_.document().build)};
    for (const QString& folder : folders())
        if (const std::vector<Plan> plans = found(folder); !plans.empty())
            return plans.front();
    return {};
}

std::vector<std::pair<QString, QString>> BuildPane::ways() const
{
    std::vector<std::pair<QString, QString>> out;
    const QDir home(editor_.folder());
    const auto quoted = [](QString name) { return name.contains(QRegularExpression("[^\\w./+-]")) ? "'" + name.replace("'", "'\\''") + "'" : name; };
    for (const QString& folder : folders())
        for (const Plan& p : found(folder)) {
            const QString at = home.relativeFilePath(folder);
            out.emplace_back(at == "." ? p.command : tr("%1, in %2").arg(p.command, at), at == "." ? p.command : QString("cd %1 && %2").arg(quoted(at), p.command));
        }
    // A compiler, straight, for a chip whose sources lie beside its firmware; and what is not there for the chips of this bench.
    std::set<std::string> missing;
    for (const bench::PartItem& part : editor_.document().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr || kind->chip == nullptr)
            continue;
        for (const bench::Tool& tool : bench::buildTools(*kind->chip)) {
            if (tool.path.empty()) {
                if (missing.insert(tool.program).second)
                    out.emplace_back(tr("%1 is not installed: apt install %2").arg(QString::fromStdString(tool.program), QString::fromStdString(tool.packages)), QString());
                continue;
            }
            if (part.firmware.empty() || tool.program == "make" || !kind->chip->behaviour->buildsStraight)
                continue;
            const QFileInfo firmware(home.absoluteFilePath(QString::fromStdString(part.firmware)));
            QStringList sources;
            for (const QString& name : firmware.dir().entryList({"*.c", "*.cpp", "*.S"}, QDir::Files, QDir::Name))
                sources << quoted(home.relativeFilePath(firmware.dir().filePath(name)));
            if (!sources.isEmpty())
                out.emplace_back(tr("%1 alone, for %2").arg(QString::fromStdString(tool.program), QString::fromStdString(part.id)),
                                 QString("%1 %2 -Os -gdwarf-4 -Wall -o %3 %4")
                                     .arg(QString::fromStdString(tool.program), QString::fromStdString(kind->chip->compilerOption), quoted(home.relativeFilePath(firmware.filePath())), sources.join(' ')));
        }
    }
    return out;
}

void BuildPane::setCommand(const QString& command)
{
    editor_.change(tr("build command"), [&](bench::Document& d) { d.build = command.toStdString(); });
    if (!command.isEmpty())
        allow(plan());  // the person has just chosen it
}

// What was found can be chosen with one click; the present way is ticked.
void BuildPane::offerWays(QPoint at)
{
    auto* menu = new QMenu(this);
    menu->setObjectName("buildWays");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    const QString now = QString::fromStdString(editor_.document().build);
    const auto add = [&](const QString& text, const QString& command, bool enabled) {
        QAction* action = menu->addAction(text, this, [this, command] { setCommand(command); });
        action->setEnabled(enabled);
        action->setCheckable(enabled);
        action->setChecked(enabled && command == now);
        action->setToolTip(command);
    };
    add(tr("What lies beside the firmware"), {}, true);
    for (const auto& [text, command] : ways())
        add(text, command, !command.isEmpty());
    menu->addSeparator();
    menu->addAction(tr("A command of your own"), this, [this] {
        command_->setText(QString::fromStdString(editor_.document().build));
        command_->show();
        command_->setFocus();
        command_->selectAll();
    });
    menu->popup(at);
}

void BuildPane::build()
{
    if (isBuilding())
        return;
    output_->clear();
    errors_ = warnings_ = 0;
    rest_.clear();
    const Plan p = plan();
    if (p.command.isEmpty()) {
        title_->setText(tr("Nothing to build with"));
        line(tr("Neither a Makefile nor a CMakeLists.txt lies beside the firmware of this bench. Say how it is built in \"Build settings…\"."));
        emit built(false);
        return;
    }
    folder_ = p.folder;
    consent_->hide();
    if (!isAllowed(p))
        return askFirst(p);
    title_->setText(tr("Building…"));
    line(QString("%1 $ %2").arg(QDir(editor_.folder()).relativeFilePath(folder_) == "." ? QString() : QDir(editor_.folder()).relativeFilePath(folder_), p.command).trimmed());
    process_.setWorkingDirectory(folder_);
    QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
    environment.insert("LC_MESSAGES", "C");  // "error" and "warning" are what is looked for
    environment.remove("LC_ALL");
    process_.setProcessEnvironment(environment);
    process_.start("/bin/sh", {"-c", p.command});
}

// The command, and the files that say what it does.
QString BuildPane::markOf(const Plan& plan)
{
    QCryptographicHash hash(QCryptographicHash::Sha256);
    hash.addData(QDir(plan.folder).canonicalPath().toUtf8() + '\n' + plan.command.toUtf8());
    for (const char* name : kBuildFiles)
        if (const auto text = kernel::readFile(QDir(plan.folder).filePath(name).toStdString(), kLargestScript))
            hash.addData(QByteArray("\n") + name + '\n' + QByteArray::fromStdString(*text));
    return QString::fromLatin1(hash.result().toHex().left(32));
}

bool BuildPane::isAllowed(const Plan& plan) { return QSettings().value("build/allowed").toStringList().contains(markOf(plan)); }

void BuildPane::allow(const Plan& plan)
{
    constexpr qsizetype kRemembered = 500;
    QSettings settings;
    QStringList marks = settings.value("build/allowed").toStringList();
    marks.removeAll(markOf(plan));
    marks.prepend(markOf(plan));
    settings.setValue("build/allowed", marks.mid(0, kRemembered));
}

void BuildPane::allowIn(const QString& folder)
{
    for (const Plan& p : found(folder))
        allow(p);
}

void BuildPane::allowAndBuild()
{
    if (const Plan p = plan(); !p.command.isEmpty())
        allow(p);
    build();
}

void BuildPane::askFirst(const Plan& plan)
{
    title_->setText(tr("Waits to be allowed"));
    const QString at = QDir(editor_.folder()).relativeFilePath(plan.folder);
    line(tr("In the folder %1:").arg(at == "." ? QDir(plan.folder).dirName() : at));
    line("$ " + plan.command);
    // What it is made of, as far as it can be shown.
    constexpr int kShown = 40;
    for (const char* name : kBuildFiles)
        if (const QString file = QDir(plan.folder).filePath(name); QFileInfo::exists(file) && plan.command.contains(QString(name).startsWith("CMake") ? "cmake" : QString(name) == "build.sh" ? "build.sh" : "make")) {
            const auto text = kernel::readFile(file.toStdString(), kLargestScript);
            if (!text) {
                line(QString::fromStdString(text.error().text()));
                break;
            }
            line(QString("%1:").arg(name));
            const QStringList lines = QString::fromStdString(*text).trimmed().split('\n');
            for (const QString& l : lines.mid(0, kShown))
                line("    " + l.trimmed());
            if (lines.size() > kShown)
                line("    …");
            break;
        }
    consent_->show();
}

void BuildPane::take(const QByteArray& bytes)
{
    rest_ += bytes;
    for (qsizetype end; (end = rest_.indexOf('\n')) >= 0;) {
        line(QString::fromLocal8Bit(rest_.left(end)));
        rest_.remove(0, end + 1);
    }
}

void BuildPane::line(const QString& text)
{
    static const QRegularExpression place("^(?:In file included from )?([^\\s:][^:]*):(\\d+)(?::\\d+)?:\\s*(fatal error|error|warning|note)?");
    auto* item = new QListWidgetItem(text, output_);
    if (const auto match = place.match(text); match.hasMatch()) {
        item->setData(kFile, QDir(folder_).absoluteFilePath(match.captured(1)));
        item->setData(kLine, match.captured(2).toInt());
        const QString kind = match.captured(3);
        if (kind.endsWith("error")) {
            ++errors_;
            item->setForeground(theme::rust());
        } else if (kind == "warning") {
            ++warnings_;
            item->setForeground(theme::warningInk());
        }
        item->setToolTip(tr("Click to go there"));
    } else if (text.contains("*** ") || text.contains(": error:") || text.contains("undefined reference")) {
        item->setForeground(theme::rust());
    }
    // What is not installed is named with the package that brings it.
    static const QRegularExpression missing("(?:/bin/)?sh: \\d*:? ?([\\w+-]+): not found|make: ([\\w+-]+): No such file");
    if (const auto match = missing.match(text); match.hasMatch()) {
        const QString program = match.captured(1) + match.captured(2);
        QString packages = program == "make" ? "make" : program == "cmake" ? "cmake" : QString();
        for (const bench::Tool& tool : bench::buildTools())
            if (QString::fromStdString(tool.program) == program)
                packages = QString::fromStdString(tool.packages);
        if (!packages.isEmpty())
            new QListWidgetItem(tr("%1 is not installed: apt install %2").arg(program, packages), output_);
    }
    while (output_->count() > kMostLines)
        delete output_->takeItem(0);
    output_->scrollToBottom();
}

void BuildPane::finished(int code, QProcess::ExitStatus status)
{
    take(process_.readAllStandardOutput());
    if (!rest_.isEmpty())
        line(QString::fromLocal8Bit(std::exchange(rest_, {})));
    const bool good = status == QProcess::NormalExit && code == 0;
    const QString told = warnings_ == 0 ? QString() : warnings_ == 1 ? tr(", 1 warning") : tr(", %1 warnings").arg(warnings_);
    title_->setText(good ? tr("Built%1").arg(told) : errors_ == 1 ? tr("1 error%1").arg(told) : errors_ > 0 ? tr("%1 errors%2").arg(errors_).arg(told) : tr("Failed with code %1").arg(code));
    theme::dress(title_, good ? "color: @leaf;" : "color: @rust;");
    if (good)
        editor_.firmwareBuilt();
    else
        for (int i = 0; i < output_->count(); ++i)
            if (output_->item(i)->foreground().color() == theme::rust()) {
                output_->scrollToItem(output_->item(i));
                break;
            }
    emit built(good);
}

}  // namespace bramix::app
