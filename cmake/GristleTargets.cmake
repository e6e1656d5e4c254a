# The few helpers with which every folder declares its target, so that flags and arrows are said once.
find_package(PkgConfig REQUIRED)
find_package(Threads REQUIRED)
pkg_check_modules(SNDFILE REQUIRED IMPORTED_TARGET sndfile)
pkg_check_modules(FFTW REQUIRED IMPORTED_TARGET fftw3 fftw3f)
pkg_check_modules(SOXR REQUIRED IMPORTED_TARGET soxr)
pkg_check_modules(XXHASH REQUIRED IMPORTED_TARGET libxxhash)
pkg_check_modules(EBUR128 REQUIRED IMPORTED_TARGET libebur128)
pkg_check_modules(RTAUDIO REQUIRED IMPORTED_TARGET rtaudio)
pkg_check_modules(JACK REQUIRED IMPORTED_TARGET jack)
pkg_check_modules(RTMIDI REQUIRED IMPORTED_TARGET rtmidi)
find_package(Eigen3 REQUIRED)
find_package(nlohmann_json 3.11 REQUIRED)
find_package(fmt REQUIRED)
find_package(CLI11 REQUIRED)

set(CMAKE_CXX_STANDARD 20)
set(CMAKE_CXX_STANDARD_REQUIRED ON)
set(CMAKE_CXX_EXTENSIONS OFF)
set(CMAKE_POSITION_INDEPENDENT_CODE ON)
# Not fast-math: infinities and NaN keep their meaning. Only errno and trap flags of sqrt are given up, so that it vectorises.
add_compile_options(-fno-math-errno -fno-trapping-math -pthread) # -pthread everywhere, so that headers compiled once fit all

add_library(gristle_warnings INTERFACE)
target_compile_options(gristle_warnings INTERFACE -Wall -Wextra -Wpedantic -Wshadow -Wnon-virtual-dtor
  -Woverloaded-virtual -Wold-style-cast
  # false alarms of GCC 12 in the library's own std::string (its bug 105651)
  -Wno-stringop-overflow -Wno-array-bounds -Wno-restrict
  $<$<BOOL:${GRISTLE_WERROR}>:-Werror>)

# Precompiled headers, built once by the target `first` and used by all that come after it.
function(gristle_headers name first)
  if(name STREQUAL first)
    target_precompile_headers(${name} PRIVATE ${ARGN})
  else()
    target_precompile_headers(${name} REUSE_FROM ${first})
  endif()
endfunction()

# Includes are written from src/ ("core/units/result.h"), and a target sees its own folder and those of the libraries
# that it depends on, nothing else: an include against the arrows finds no file. The root that it looks in holds a link
# to that one folder.
function(gristle_include_root name scope)
  file(RELATIVE_PATH folder "${PROJECT_SOURCE_DIR}/src" "${CMAKE_CURRENT_SOURCE_DIR}")
  set(root "${PROJECT_BINARY_DIR}/include/${name}")
  get_filename_component(parent "${root}/${folder}" DIRECTORY)
  file(MAKE_DIRECTORY "${parent}")
  if(NOT EXISTS "${root}/${folder}")
    file(CREATE_LINK "${CMAKE_CURRENT_SOURCE_DIR}" "${root}/${folder}" SYMBOLIC)
  endif()
  target_include_directories(${name} ${scope} "${root}")
endfunction()

# gristle_library(name SOURCES ... [DEPENDS ...] [PRIVATE ...]): a static library of one folder. Qt is not on its path.
function(gristle_library name)
  cmake_parse_arguments(ARG "" "" "SOURCES;DEPENDS;PRIVATE" ${ARGN})
  add_library(${name} STATIC ${ARG_SOURCES})
  gristle_include_root(${name} PUBLIC)
  target_link_libraries(${name} PUBLIC ${ARG_DEPENDS} PRIVATE gristle_warnings ${ARG_PRIVATE})
  string(REPLACE gristle_ "" folder ${name})
  file(GENERATE OUTPUT "${PROJECT_BINARY_DIR}/include-roots/${folder}.txt"
    CONTENT "$<TARGET_PROPERTY:${name},INCLUDE_DIRECTORIES>")
  gristle_headers(${name} gristle_units <algorithm> <array> <cmath> <complex> <functional> <map> <memory>
    <optional> <span> <string> <utility> <vector>)
endfunction()

# gristle_test(name SOURCE ... DEPENDS ...): one Qt Test program, registered with the test runner.
function(gristle_test name)
  cmake_parse_arguments(ARG "" "" "SOURCES;DEPENDS" ${ARGN})
  add_executable(${name} ${ARG_SOURCES})
  set_target_properties(${name} PROPERTIES AUTOMOC ON)
  target_include_directories(${name} PRIVATE "${PROJECT_SOURCE_DIR}/tests")
  target_link_libraries(${name} PRIVATE ${ARG_DEPENDS} Qt6::Test gristle_warnings)
  target_compile_definitions(${name} PRIVATE GRISTLE_CLI_PATH="$<TARGET_FILE:gristle-cli>"
    GRISTLE_SOURCE_DIR="${PROJECT_SOURCE_DIR}")
  set(first test_units)
  if("gristle_app" IN_LIST ARG_DEPENDS)
    set(first test_widgets)
  endif()
  gristle_headers(${name} ${first} <QtTest/QtTest> <cmath> <vector> <string>)
  add_test(NAME ${name} COMMAND ${name})
  # The thread sanitizer sees no lock inside Debian's Qt and glib: calls that they make themselves are passed over, ours
  # are not.
  set_tests_properties(${name} PROPERTIES TIMEOUT 1200
    ENVIRONMENT "QT_QPA_PLATFORM=offscreen;QT_LOGGING_RULES=qt.qpa.*=false;GRISTLE_NO_DEVICE=1;GRISTLE_HOME=${CMAKE_BINARY_DIR}/home;QTEST_FUNCTION_TIMEOUT=1800000;TSAN_OPTIONS=ignore_noninstrumented_modules=1")
endfunction()
