# Optimizes less in builds of the whole where no time is spent: a quarter less to compile, the same bits. Not with
# precompiled headers, which are optimized and would not fit.
function(jovilux_cold target)
  target_compile_options(${target} PRIVATE "$<$<AND:$<CONFIG:Release>,$<CXX_COMPILER_ID:GNU>>:-O1>")
endfunction()

# jovilux_library(NAME [HOT|COLD] SOURCES ... DEPS ... [LINK ...] [TABLES ...])
#
# One static library for a folder of src/jovilux. DEPS names other folders, LINK packages, TABLES files of data/
# whose rows are compiled in: data/NAME.csv becomes NAME.inc, a fragment for an array's braces. HOT: rendering
# spends its time there; COLD: none is spent there.
function(jovilux_library name)
  cmake_parse_arguments(arg "HOT;COLD" "" "SOURCES;DEPS;LINK;TABLES" ${ARGN})
  file(GLOB headers CONFIGURE_DEPENDS "${CMAKE_CURRENT_SOURCE_DIR}/*.h")
  if(arg_SOURCES)
    add_library(jovilux_${name} STATIC ${arg_SOURCES})
    target_precompile_headers(jovilux_${name} REUSE_FROM jovilux_prelude)
    set(kind PUBLIC)
  else()
    add_library(jovilux_${name} INTERFACE)
    set(kind INTERFACE)
  endif()
  add_library(jovilux::${name} ALIAS jovilux_${name})
  target_sources(jovilux_${name} ${kind} FILE_SET HEADERS BASE_DIRS "${CMAKE_SOURCE_DIR}/src" FILES ${headers})
  target_link_libraries(jovilux_${name} ${kind} jovilux_options ${arg_LINK})
  foreach(dep IN LISTS arg_DEPS)
    target_link_libraries(jovilux_${name} ${kind} jovilux::${dep})
  endforeach()
  if(arg_TABLES)
    set(out "${CMAKE_CURRENT_BINARY_DIR}/tables")
    foreach(table IN LISTS arg_TABLES)
      set(csv "${CMAKE_SOURCE_DIR}/data/${table}.csv")
      set_property(DIRECTORY APPEND PROPERTY CMAKE_CONFIGURE_DEPENDS "${csv}")
      file(STRINGS "${csv}" rows REGEX "^[^#]")
      list(JOIN rows "\n" text)
      file(CONFIGURE OUTPUT "${out}/${table}.inc" CONTENT "${text}\n" @ONLY)
    endforeach()
    target_include_directories(jovilux_${name} PRIVATE "${out}")
  endif()
  if(arg_HOT)
    # GCC's limits of a unit's growth leave Eigen's small operations on three and twelve floats out of line,
    # each a call with its values through memory.
    target_compile_options(jovilux_${name} PRIVATE
      "$<$<CXX_COMPILER_ID:GNU>:--param=inline-unit-growth=400;--param=large-function-growth=1000;--param=max-inline-insns-single=200>")
  elseif(arg_COLD)
    jovilux_cold(jovilux_${name})
  endif()
  set_property(GLOBAL APPEND PROPERTY JOVILUX_LIBRARIES ${name})
endfunction()
