#include "core/rig/node.h"

#include "core/units/musical_time.h"
#include "core/units/number_text.h"

#include <algorithm>

namespace gristle::core {

namespace {

std::string joined(const std::vector<std::string>& words)
{
    std::string out;
    for (const auto& word : words) out += (out.empty() ? "" : ", ") + word;
    return out;
}

Error outside(const NodeType& node, const ParameterSpec& spec, const std::string& shown, ErrorCode code)
{
    const std::string what = node.type + " " + spec.key + "=" + shown + ": ";
    switch (spec.kind) {
    case ParameterKind::Number:
        return {code, what + "it is outside its range",
                "take a number from " + numberText(spec.min) + " to " + numberText(spec.max)};
    case ParameterKind::Time:
        return {code, what + "it is no time in its range",
                "write a time from " + numberText(spec.min * 1000.0) + "ms to " + numberText(spec.max) +
                    "s, or a note value such as 1/8d"};
    case ParameterKind::Choice: return {code, what + "there is no such choice", "take one of " + joined(spec.choices)};
    case ParameterKind::File: return {code, what + "no file is named", "name a file"};
    }
    return {code, what, ""};
}

} // namespace

bool ParameterSpec::worksWith(const ParameterValues& values) const
{
    return onlyIf.of.empty() || std::ranges::find(onlyIf.choices, textOf(values, onlyIf.of)) != onlyIf.choices.end();
}

const ParameterSpec* NodeType::find(const std::string& key) const noexcept
{
    const auto at = std::ranges::find(parameters, key, &ParameterSpec::key);
    return at == parameters.end() ? nullptr : &*at;
}

const NodeType* findNodeType(const std::string& type)
{
    const auto& all = nodeTypes();
    const auto at = std::ranges::find(all, type, &NodeType::type);
    return at == all.end() ? nullptr : &*at;
}

Outcome checkValue(const NodeType& node, const ParameterSpec& spec, const ParameterValue& value, ErrorCode code)
{
    const auto* number = std::get_if<double>(&value);
    const auto* text = std::get_if<std::string>(&value);
    bool good = false;
    switch (spec.kind) {
    case ParameterKind::Number: good = number && *number >= spec.min && *number <= spec.max; break;
    case ParameterKind::Choice: good = text && std::ranges::find(spec.choices, *text) != spec.choices.end(); break;
    case ParameterKind::File: good = text && !text->empty(); break;
    case ParameterKind::Time:
        if (text) {
            const auto time = MusicalTime::parse(*text);
            const double s = time ? time->seconds(120.0) : 0.0;
            good = time && (time->isNoteValue() || (s >= spec.min && s <= spec.max));
        }
        break;
    }
    if (!good) return outside(node, spec, valueText(value), code);
    return Done{};
}

Result<ParameterValue> parseValue(const NodeType& node, const ParameterSpec& spec, const std::string& text)
{
    ParameterValue value = text;
    if (spec.kind == ParameterKind::Number) {
        const auto number = parseNumber(text);
        if (!number) return outside(node, spec, text, ErrorCode::Usage);
        value = *number;
    }
    if (const auto checked = checkValue(node, spec, value, ErrorCode::Usage); !checked) return checked.error();
    return value;
}

std::string valueText(const ParameterValue& value)
{
    if (const auto* number = std::get_if<double>(&value)) return numberText(*number);
    return std::get<std::string>(value);
}

double numberOf(const ParameterValues& values, const std::string& key) { return std::get<double>(values.at(key)); }
const std::string& textOf(const ParameterValues& values, const std::string& key)
{
    return std::get<std::string>(values.at(key));
}

} // namespace gristle::core
