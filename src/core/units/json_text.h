#pragma once

#include <cstdint>
#include <nlohmann/json.hpp>
#include <string>

namespace gristle::core {

/// A JSON value as text; bytes that are no UTF-8 become U+FFFD, as JSON holds none and a name must not end a program.
/// @param indent  spaces a level; -1: one line
template<typename Json> std::string jsonText(const Json& json, int indent = -1)
{
    return json.dump(indent, ' ', false, Json::error_handler_t::replace);
}

/// Parses JSON of at most kDeepestJson levels, so that nothing that walks through it runs out of stack; discarded
/// where it is none or deeper.
constexpr int kDeepestJson = 200;
template<typename Json> Json parseJson(const std::string& text)
{
    bool isDeep = false;
    auto json = Json::parse(
        text,
        [&](int depth, typename Json::parse_event_t, Json&) {
            isDeep = isDeep || depth > kDeepestJson;
            return !isDeep;
        },
        false);
    return isDeep ? Json(Json::value_t::discarded) : json;
}

/// Whether the number of a format is past the one that is known, however large it is.
template<typename Json> bool isNewerFormat(const Json& number, int known)
{
    if (number.is_number_float()) return number.template get<double>() > known;
    return number.is_number_unsigned() ? number.template get<std::uint64_t>() > std::uint64_t(known)
                                       : number.template get<std::int64_t>() > known;
}

/// Puts what a newer version wrote, and this one does not know, back among what this one writes: nothing that is there
/// is changed. @param unknown  an object as text, empty: nothing
template<typename Json> void putBackUnknown(Json& into, const Json& unknown)
{
    for (const auto& [key, value] : unknown.items()) {
        if (!into.contains(key))
            into[key] = value;
        else if (into[key].is_object() && value.is_object())
            putBackUnknown(into[key], value);
    }
}
template<typename Json> void putBackUnknown(Json& into, const std::string& unknown)
{
    if (unknown.empty()) return;
    if (const Json json = Json::parse(unknown, nullptr, false); json.is_object()) putBackUnknown(into, json);
}

} // namespace gristle::core
