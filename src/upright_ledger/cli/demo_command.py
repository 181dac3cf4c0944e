"""upright demo"""
