// What manifests say reaches the catalogue: places on drawings, what pins want of a chip, and what tells one part from another in a drawer.
#include <QtTest>

#include "bench/catalogue.h"
#include "bench/lists.h"
#include "bench/pin_functions.h"

using namespace bramix::bench;

class ManifestTest : public QObject {
    Q_OBJECT

private:
    Catalogue catalogue_;

    const PartKind& kind(const char* id) { return *catalogue_.find(id); }

private slots:
    void initTestCase() { catalogue_ = *Catalogue::loadInstalled(); }

    // Corner and size, in the order in which they are written.
    void placesOnDrawingsAreTheManifests()
    {
        const ControlKind* five = kind("keypad").control("5");
        QVERIFY(five != nullptr && five->box);
        QVERIFY(five->box->first == (GridPoint{46, 34}) && five->box->second == (GridPoint{24, 24}));
        QVERIFY(kind("rotary-encoder").shaft->first == (GridPoint{48, 23}));
        QVERIFY(kind("rotary-encoder").shaft->second == (GridPoint{18, 0}));
        const PartKind& board = kind("briar-328");
        QVERIFY(board.resetButton.has_value());
        // Within the board, and of a size that a finger meets.
        QVERIFY(board.resetButton->first.x > 0 && board.resetButton->first.x < board.size.x * 16);
        QVERIFY(board.resetButton->first.y > 0 && board.resetButton->first.y < board.size.y * 16);
        QVERIFY(board.resetButton->second.x >= 8 && board.resetButton->second.x <= 48);
        QVERIFY(board.resetButton->second.y >= 8 && board.resetButton->second.y <= 48);
        QVERIFY(board.resetButton->first.x > board.resetButton->second.x * 3);
    }

    // Where a voltage comes out, an analog input can take it; bus lines want their bus.
    void leadsWantWhatTheyAreFor()
    {
        const auto wants = [&](const char* id, const char* pin, const char* function) {
            const auto functions = functionsFor(kind(id), *kind(id).pin(pin));
            return std::any_of(functions.begin(), functions.end(), [&](const std::string& f) { return f.starts_with(function); });
        };
        for (const auto& [id, pin] : {std::pair("potentiometer", "W"), std::pair("water-level", "OUT"), std::pair("tmp36", "OUT"), std::pair("warmth-sensor", "1")})
            QVERIFY2(wants(id, pin, "ADC"), id);
        QVERIFY(!wants("potentiometer", "A", "ADC") && !wants("water-level", "VCC", "ADC"));
        QVERIFY(wants("ds3231", "SDA", "SDA") && wants("ds3231", "SCL", "SCL"));
    }

    // A list of parts has what tells one from another, not how the simulation is set.
    void theBillOfMaterialsNamesWhatOneBuys()
    {
        Document d;
        for (const char* id : {"r1", "d1", "k1", "s1"}) {
            d.parts.emplace_back();
            d.parts.back().id = id;
            d.parts.back().kind = id[0] == 'r' ? "resistor" : id[0] == 'd' ? "led" : id[0] == 'k' ? "push-button" : "servo";
        }
        d.part("r1")->set = {{"resistance", "4k7"}, {"overload", "only warns"}};
        const QString list = QString::fromStdString(billOfMaterials(d, catalogue_));
        QVERIFY(list.contains("resistance 4k7"));
        for (const char* word : {"overloaded", "quiescent", "bounce", "moving"})
            QVERIFY2(!list.contains(word), qPrintable(list));
    }
};

QTEST_GUILESS_MAIN(ManifestTest)
#include "manifest_test.moc"
