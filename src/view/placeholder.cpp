namespace katoptra {}
