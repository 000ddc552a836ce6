module ombak

go 1.26
