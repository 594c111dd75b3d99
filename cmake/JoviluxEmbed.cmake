# jovilux_embed(OUTPUT FILES...)
#
# Text files compiled in: OUTPUT in the current binary folder is a fragment for an array's braces, of
# {"name", "text"} for each file.
function(jovilux_embed output)
  set(all "")
  foreach(file IN LISTS ARGN)
    set_property(DIRECTORY APPEND PROPERTY CMAKE_CONFIGURE_DEPENDS "${file}")
    get_filename_component(name "${file}" NAME)
    file(READ "${file}" text)
    # Raw strings have a limit in some compilers: pieces of 12000 characters, which the compiler joins.
    string(LENGTH "${text}" length)
    set(pieces "")
    set(at 0)
    while(at LESS length)
      string(SUBSTRING "${text}" ${at} 12000 piece)
      string(APPEND pieces "R\"~~~~(${piece})~~~~\"\n")
      math(EXPR at "${at} + 12000")
    endwhile()
    string(APPEND all "{\"${name}\", ${pieces}},\n")
  endforeach()
  file(CONFIGURE OUTPUT "${CMAKE_CURRENT_BINARY_DIR}/${output}" CONTENT "@all@" @ONLY)
endfunction()
